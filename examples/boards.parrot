# Tells two relay boards of the valley station apart, and proves that each obeys
# in the midst of its own status lines.

procedure "Which board is which"

port gates: dialect lines, ending lf, phrasebook "redshank.toml"
port lights: dialect lines, ending lf, phrasebook "redshank.toml"

step "each board says who it is"
    say gates: who
    hear gates: redshank board {gates_board:int}
    say lights: who
    hear lights: redshank board {lights_board:int}
    check gates_board != lights_board "both adapters lead to one board"
end

step "both report by themselves, once a second"
    watch for 3500ms
    reading gates within 2s: inputs {gates_inputs:word} relays {} board {=gates_board}
        note gates_inputs "inputs of the gates"
    reading lights within 2s: inputs {lights_inputs:word} relays {} board {=lights_board}
        note lights_inputs "inputs of the lights"
    end
end

step "the first gate opens"
    say gates: relay 1 on
    hear gates: relay 1 is on
    hear gates within 3s: inputs {} relays 1... board {=gates_board}
end

step "the lights are as they were"
    hear lights within 3s: inputs {} relays 0000 board {=lights_board}
end

step "a relay that is not there is refused"
    say lights: relay 9 on
    hear lights: what? relay 9 on
end

step "the gate is closed again" always
    say gates: relay 1 off
    hear gates: relay 1 is off
end
