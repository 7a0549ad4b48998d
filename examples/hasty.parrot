# A hurried way to commission a radio: what "uparrot rehearse" says of it, and how it
# becomes a strong one, is told in docs/rehearse.md.

procedure "A radio in a hurry"

port radio: dialect at, ending cr, phrasebook "dunlin.toml"

input address: int 1..65534 "the address printed on the lid"
input channel: int 0..79 = 41

step "the radio answers"
    say radio: AT
end

step "it is set"
    say radio: AT~NODE={address}
    say radio: AT~CHANNEL={channel}
end

step "power is within the licence"
    say radio: AT~POWER?
    hear radio: ~POWER: {power:int}
    limit power in 0..14 dBm "transmitted power"
end

step "it starts again"
    say radio: AT~RESTART
    hear radio within 5s: DUNLIN UP ...
    say radio: AT~NODE?
    hear radio: ~NODE: ...
end
