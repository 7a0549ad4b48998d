# Proves that a radio keeps its address without power. Where the bench names no switch
# for the port, a person takes the power away and gives it back.

procedure "A radio keeps its address without power"

port radio: dialect at, ending cr, phrasebook "dunlin.toml"

input address: int 1..65534

step "it gets its address" tries 3 every 500ms
    set radio address = address
end

step "it starts again"
    power radio cycle for 500ms
    hear radio within 5s: DUNLIN UP ...
end

step "it keeps its address"
    get radio address as address_after
    check address_after == address
end
