# Proves one message each way between two Dunlin radios, whole, and that a
# message to another address is not heard.

procedure "A message each way"

port valley: dialect at, ending cr, phrasebook "dunlin.toml"
port summit: dialect at, ending cr, phrasebook "dunlin.toml"
let up = "Gondola 4 leaves"
let down = "Gondola 4 arrived"

step "who is who" tries 3 every 500ms
    say valley: AT~NODE?
    hear valley: ~NODE: {valley_address:int}
    say summit: AT~NODE?
    hear summit: ~NODE: {summit_address:int}
    check valley_address != summit_address "two radios with one address answer for each other"
end

step "from the valley to the summit" tries 3
    say valley: AT~TELL={summit_address},{len(up)},{up}
    hear summit: ~HEARD: {from:int},{strength:int},{snr:num},{length:int},{text:bytes(length)}
    check from == valley_address && text == up
    limit strength in -120.. dBm "strength at the summit"
    limit snr in 0.. dB "signal-to-noise at the summit"
end

step "from the summit to the valley" tries 3
    say summit: AT~TELL={valley_address},{len(down)},{down}
    hear valley: ~HEARD: {from:int},{strength:int},{snr:num},{length:int},{text:bytes(length)}
    check from == summit_address && text == down
    limit strength in -120.. dBm "strength in the valley"
    not hear valley for 300ms: ~HEARD: ...
end

step "another address hears nothing"
    say valley: AT~TELL={summit_address + 1},{len(up)},{up}
    not hear summit for 400ms: ~HEARD: ...
end
