# Puts the cellular modem of a valley station into service: finds its speed, waits
# until it is in service, and sends a text message in two parts.

procedure "Commission a modem"

port modem: phrasebook "curlew.toml"
input recipient: text = "+15550100" "to whom a message goes"

step "its speed, whatever it was set to" tries 3 every 2s
    let speed = 0
    for baud in [115200, 38400, 9600]
        if speed == 0
            line modem speed {baud}
            # what another speed has left in its line goes away with an empty one
            say modem without answer:
            say modem without answer: AT
            any within 500ms
            case hear modem: OK
                let speed = baud
            case nothing
                quiet modem 50ms
            end
        end
    end
    check speed > 0 "it answers at a speed that a modem has"
    note speed in baud "speed as found"
end

step "it is a Curlew" tries 2
    say modem: AT+CGMM
    hear modem: Curlew
    say modem: AT+CGMR
    hear modem: {revision:num}
    limit revision in 3.. "revision of the firmware"
end

step "errors in words"
    say modem: AT+CMEE=2
    say modem: AT+CMEE?
    hear modem: +CMEE: 2
end

step "the SIM is open" tries 6 every 1s
    say modem: AT+CPIN?
    hear modem: +CPIN: READY
end

step "it is in service" tries 10 every 1s
    say modem: AT+CREG?
    hear modem: +CREG: {},{state:int}
    check state == 1 || state == 5 "1 is home, 5 is roaming"
end

step "the signal"
    say modem: AT+CSQ
    hear modem: +CSQ: {strength:int},{}
    limit strength in 5..31 "strength of the signal"
end

step "a message in two parts"
    say modem: AT+CMGF=1
    say modem: AT+CMGS="{recipient}"
    hear modem: >
    say modem: Gondola 4 has stopped.
    hear modem: >
    say bytes modem: All safe.{ctrl-z}
    hear modem within 10s: +CMGS: {}
    hear modem: OK
end
