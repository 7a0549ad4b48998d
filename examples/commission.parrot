# Puts one Dunlin radio of the Larkfell cableway into service.

procedure "Commission a tower radio"
about "Sets address, group and channel, and proves that they survive a restart."

port radio: dialect at, speed 115200, frame 8N1, ending cr, phrasebook "dunlin.toml"
input address: int 1..65534 "the address printed on the lid"
input group: int 0..255 = 7 "the same on all radios of the cableway"
input channel: int 0..79 = 41
let label = "tower " + string(address)

step "the radio answers" tries 3 every 500ms
    say radio: AT
end

step "it is a Dunlin with firmware 2.4 or later"
    say radio: ATI
    hear radio: Larkfell Works
    hear radio: Dunlin
    hear radio: {major:int}.{minor:int}.{}
    check major > 2 || major == 2 && minor >= 4 "older firmware loses its group"
end

step "the settings as found are on record"
    say radio: AT~NODE?
    hear radio: ~NODE: {node_found:int}
    say radio: AT~GROUP?
    hear radio: ~GROUP: {group_found:int}
    note node_found "address as found"
    note group_found "group as found"
end

step "address, group, channel and name are set"
    say radio: AT~NODE={address}
    say radio: AT~GROUP={group}
    say radio: AT~CHANNEL={channel}
    say radio: AT~NAME="{label}"
    say radio: AT~NODE?
    hear radio: ~NODE: {=address}
    say radio: AT~CHANNEL?
    hear radio: ~CHANNEL: {=channel}
end

step "a value out of range is refused"
    say radio: AT~GROUP=256
    hear radio: ~REFUSED: 32
end

step "power is within the licence"
    say radio: AT~POWER?
    hear radio: ~POWER: {power:int}
    limit power in 0..14 dBm "transmitted power"
end

step "the settings survive a restart"
    say radio: AT~RESTART
    hear radio within 5s took boot: DUNLIN UP ...
    limit boot in 0..2 "time of the restart"
    say radio: AT~NODE?
    hear radio: ~NODE: {now:int}
    check now == address
    say radio: AT~GROUP?
    hear radio: ~GROUP: {=group}
    say radio: AT~CHANNEL?
    hear radio: ~CHANNEL: {=channel}
    say radio: AT~NAME?
    hear radio: ~NAME: {name:quoted}
    check name == label
end
