# Commissions a radio of whatever family: the settings are read and written as its
# phrasebook says, in words or in registers. The bench names the phrasebook.

procedure "Commission a radio of any family"

port radio

input address: int 1..255
input channel: int 0..63 = 41
input power: int 2..20 = 14

step "the settings as found" tries 3 every 500ms
    get radio address as address_found
    get radio channel as channel_found
    get radio power as power_found
    note address_found "address as found"
    note channel_found "channel as found"
    note power_found in dBm "power as found"
end

step "address, channel and power are set and read back"
    set radio address = address
    set radio channel = channel
    set radio power = power
end
