# Puts a Twite of the Larkfell cableway into service: joins the network and
# proves bytes both ways through a TCP and a UDP socket of this machine.

procedure "Commission a network bridge"

input network: text = larkfell
input server_port: int 1024..65535 = 47101 "where the TCP socket of this machine listens"
input listener_port: int 1024..65535 = 47102 "where the UDP socket of this machine listens"
secret network_key "the key of the network"
port bridge: dialect lines, ending crlf, phrasebook "twite.toml"
port server: tcp "127.0.0.1:{server_port}", ending lf
port listener: udp "127.0.0.1:{listener_port}", ending none
let report = "gondola 4, 17.5 degrees, wind 8 m/s"

step "it starts and says its release"
    say bridge: :restart
    hear bridge within 5s: :up {release:num}
    check release >= 5
    say bridge: :who
    hear bridge: :who twite {=release}
end

step "without a network no socket opens"
    say bridge: :open 1,tcp,127.0.0.1,{server_port}
    hear bridge: :no 4
end

step "it joins the network"
    say bridge: :net "{network}","{network_key}"
    hear bridge within 10s: :net {own:ipv4}
    check own startsWith "10.20."
end

step "a report goes out over TCP"
    say bridge: :open 1,tcp,127.0.0.1,{server_port}
    hear bridge within 5s: :open 1
    say bridge: :send 1,{len(report) + 1}
    hear bytes bridge: give>
    say bytes bridge: {report}{lf}
    all within 5s
        hear bridge: :sent {=len(report) + 1}
        hear server: {=report}
    end
end

step "an order comes back over TCP"
    say server: stop at tower 3
    hear bridge within 5s: :came 1,{n:int},{order:bytes(n)}
    check trim(order) == "stop at tower 3"
end

step "a datagram goes both ways"
    say bridge: :open 2,udp,127.0.0.1,{listener_port}
    hear bridge within 5s: :open 2
    say bridge: :send 2,4
    hear bytes bridge: give>
    say bytes bridge: ping
    hear listener within 5s: ping
    say listener: pong
    hear bridge within 5s: :came 2,4,pong
end

step "nobody listens there" tries 2
    say bridge: :open 3,tcp,127.0.0.1,9
    hear bridge within 5s: :no 7
end

step "the sockets are closed" always
    for socket in 1..2
        say bridge: :shut {socket}
        any
        case hear bridge: :shut {=socket}
        case hear bridge: :no 6
        end
    end
end
