# Puts a Fieldfare of the Larkfell cableway into service: turns it to setup with
# its mode line, sets channel and power in its registers, reads them back and
# leaves setup.

procedure "Set up a transparent radio"

port radio: dialect bytes, speed 9600, frame 8N1, ending none, phrasebook "fieldfare.toml"
input channel: int 0..63 = 41
input power: int 2..20 = 14

step "setup mode"
    line radio dtr off
    quiet radio 100ms
end

step "the registers as found" tries 2
    say packet radio: read(first = 0, count = 8)
    hear packet radio: registers(first = 0)
    check count == 8 && byte(found, 4) == 0 "its line runs at 9600 baud"
end

step "a channel that is not there is refused"
    say packet radio: write(first = 2, value = 64)
    hear packet radio: refused(why = 3)
end

step "channel and power are set"
    for register in [2, 5]
        let wanted = register == 2 ? channel : power
        say packet radio: write(first = register, value = wanted)
        hear packet radio: written(first = register, value = wanted)
    end
end

step "back to data" always
    line radio dtr on
    pause 50ms
end
