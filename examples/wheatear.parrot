# Puts a Wheatear sensor mast of the Larkfell cableway into service: its sensors are read one
# by one, its stream is watched, and what a slow sensor makes of its rate.

procedure "Commission a sensor mast"

port mast: dialect lines, speed 57600, ending cr, phrasebook "wheatear.toml"

step "it says which mast it is"
    say mast: who
    hear mast: wheatear 3.1 mast {mast_number:int}
    identity "mast " + string(mast_number)
end

step "its status, as XML"
    say mast: status
    hear mast: <{rest}
    let status = "<" + rest
    limit number(xpath(status, "//supply")) in 22..28 V "supply"
    check number(xpath(status, "count(//sensor)")) == 5
end

step "each sensor is switched on and off"
    for n in 1..5
        say mast: sensor {n} on
        hear mast: sensor {=n} is on
        say mast: sensor {n} off
        hear mast: sensor {=n} is off
    end
end

step "wind and direction, five times a second"
    say mast: sensor 1 on
    hear mast: sensor 1 is on
    say mast: sensor 2 on
    hear mast: sensor 2 is on
    say mast: start
    hear mast: started every {pace:int} ms
    check pace == 200
    let before = 0
    watch for 3s
    reading mast within 1s: m{} {line:int} s1=a{wind:num},b{gust:num} s2=a{from:num}
        check before == 0 || line == before + 1 "no line is lost"
        let before = line
        limit wind in 0..25 m/s "wind"
        limit gust in 0..30 m/s "gust"
        note from in deg "direction"
    end
end

step "a slow sensor sets the rate of all"
    say mast: sensor 3 on
    hear mast: sensor 3 is on
    watch 3 times
    reading mast within 3s: m{} {} s1={} s2={} s3=a{temperature:num}
        limit temperature in -40..40 degC "temperature"
    end
end

step "it is quiet again" always
    say mast: stop
    hear mast within 3s: stopped
end
