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
    # read, from register 0, 8 of them, and the sum of all that
    let ask = char(0x5A) + u8(1) + u8(0) + u8(8)
    say bytes radio: {ask}{sum8(ask):u8}
    hear bytes radio: {hex A5 01 00 08}{found:bytes(8)}{sum:u8}
    check sum == sum8(char(0xA5) + u8(1) + u8(0) + u8(8) + found) "the sum of the answer"
    check byte(found, 4) == 0 "its line runs at 9600 baud"
end

step "a channel that is not there is refused"
    let write = char(0x5A) + u8(2) + u8(2) + u8(1) + u8(64)
    say bytes radio: {write}{sum8(write):u8}
    hear bytes radio: {hex A5 EE 03}
end

step "channel and power are set"
    for register in [2, 5]
        let value = register == 2 ? channel : power
        let set = char(0x5A) + u8(2) + u8(register) + u8(1) + u8(value)
        say bytes radio: {set}{sum8(set):u8}
        hear bytes radio: {hex A5 02}{which:u8}{count:u8}{now:u8}
        check which == register && now == value
    end
end

step "back to data" always
    line radio dtr on
    pause 50ms
end
