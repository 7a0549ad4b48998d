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
    # 5A, read, from register 0, 8 of them, and the sum of all that
    say bytes radio: {hex 5A 01 00 08 63}
    hear bytes radio: {hex A5 01 00 08}{found:bytes(8)}{sum:bytes(1)}
    let total = 0xA5 + 1 + 8 + byte(found, 0) + byte(found, 1) + byte(found, 2) + byte(found, 3) + byte(found, 4) + byte(found, 5) + byte(found, 6) + byte(found, 7)
    check uint(sum) == total % 256 "the sum of the answer"
    check byte(found, 4) == 0 "its line runs at 9600 baud"
end

step "a channel that is not there is refused"
    say bytes radio: {hex 5A 02 02 01 40 9F}
    hear bytes radio: {hex A5 EE 03}
end

step "channel and power are set"
    for register in [2, 5]
        let value = register == 2 ? channel : power
        say bytes radio: {hex 5A 02}{char(register)}{hex 01}{char(value)}{char((0x5A + 2 + register + 1 + value) % 256)}
        hear bytes radio: {hex A5 02}{got:bytes(3)}
        check byte(got, 0) == register && byte(got, 2) == value
    end
end

step "back to data" always
    line radio dtr on
    pause 50ms
end
