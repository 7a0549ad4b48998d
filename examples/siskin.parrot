# Pairs two Siskins of the Larkfell cableway, sends a word through and leaves
# the modules as they were.

procedure "Pair two Siskins"
about "Finds the badge from the pager, joins it and proves plain data both ways."

port pager: dialect lines, speed 19200, ending cr, phrasebook "siskin.toml"
port badge: dialect lines, speed 19200, ending cr, phrasebook "siskin.toml"
input data_speed: int 9600..115200 = 76800 "speed of the line after joining"

# The first command after power-up is refused, whatever it is.
routine wake(module)
    say module: hello
    any
    case hear module: siskin {}
    case hear module: no 9
        say module: hello
        hear module: siskin {}
    end
end

step "both modules are awake"
    do wake(pager)
    do wake(badge)
end

step "both use one data speed"
    say pager: speed {data_speed}
    hear pager: speed {=data_speed}
    say badge: speed {data_speed}
    hear badge: speed {=data_speed}
end

step "the badge is found near by"
    say badge: own
    hear badge: own {dotted:word}
    say pager: seek
    hear pager within 5s: peer {=dotted} {strength:int}
    limit strength in -70..0 dBm "strength of the badge"
    hear pager: peers {}
end

step "an address with dots is refused"
    say pager: join {dotted}
    hear pager: no 2
end

step "they join"
    let bare = replace(dotted, ".", "")
    say pager: join {bare}
    all within 5s
        hear pager: joined {=bare}
        hear badge: guest {}
    end
    line pager speed {data_speed}
    line badge speed {data_speed}
end

step "plain data goes both ways"
    say pager: gondola 4 leaves
    hear badge: gondola 4 leaves
    say badge: gondola 4 arrived
    hear pager: gondola 4 arrived
end

step "both are left as they were" always
    pause 600ms
    say pager: leave!
    # The modules turn back after half a second of quiet: be there before them.
    pause 200ms
    line pager speed 19200
    line badge speed 19200
    all
        hear pager: left
        hear badge: left
    end
end
