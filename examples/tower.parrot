# Fetches the log files of a Bittern B2 of the Larkfell cableway, behind its
# login, as evidence for a service ticket.

procedure "Fetch the logs of a tower"

port tower: dialect console, speed 115200, ending cr, phrasebook "bittern-tower.toml"
secret code "the code of the user ops"

step "log in" tries 3 needed
    log in tower as "ops" with code within 3s
    hear tower: welcome ops
end

step "each log file is kept"
    say tower: logs
    hear tower: door.log  {door_lines:int} lines
    hear tower: rope.log  {rope_lines:int} lines
    say tower: show door.log
    collect door from tower until prompt
    keep door as "door.log"
    say tower: show rope.log
    collect rope from tower until prompt
    keep rope as "rope.log"
    check len(split(rope, "\n")) == rope_lines
    check len(split(door, "\n")) == door_lines
end

step "the rope was never slack"
    for entry in split(rope, "\n")
        if entry matches "tension"
            let tension = number(split(entry, " ")[3])
            limit tension in 40..44 kN "rope tension"
        end
    end
end

step "log out" always
    say tower: leave
    hear tower: bye
end
