# Puts a Plover wind gauge of the Larkfell cableway into service: asks it in
# bytes, then has its jumper set and reads the stream of lines.

procedure "Commission a wind gauge"

port gauge: dialect bytes, speed 4800, frame 8E1, ending none, phrasebook "plover.toml"

step "it says who it is" tries 2
    say bytes gauge: I
    hear packet gauge: release
    check major == 1 && minor >= 4 "release 1.4 is the first with a sum"
end

step "it tells the wind" tries 2
    say bytes gauge: W
    hear packet gauge: wind
    limit speed / 10 in 0..60 m/s "wind"
    limit from in 0..359 degrees "direction"
end

step "a byte it does not know is refused"
    say bytes gauge: X
    hear packet gauge: unknown(what = "X")
end

step "with the jumper it streams"
    tell operator "Set the jumper of the gauge, then switch it off and on again."
    line gauge dialect lines
    hear gauge within 2m: wind {} m/s {} deg
    watch for 3s
    reading gauge within 2s: wind {now:num} m/s {at:int} deg
        limit now in 0..60 m/s "wind in the stream"
        limit at in 0..359 degrees "direction in the stream"
    end
end
