# Puts a Bittern B1 of the Larkfell cableway into service: keeps its boot log,
# sets its network and proves that it can be reached there.

procedure "Commission a station controller"

port controller: dialect console, speed 115200, ending cr, prompt "bittern>", phrasebook "bittern.toml"
input address: text = 127.0.0.21 "its address in the network"
input gateway: text = 127.0.0.1
input mask: int 8..30 = 24
input service: int 1..65535 = 47021 "where it takes connections"

step "the console answers Enter" tries 5 every 1s needed
    say controller:
end

step "the settings as found are kept"
    say controller: net
    collect found from controller until prompt
    keep found as "controller-as-found.txt"
    say controller: status
    hear controller: supply {volts:num} V
    limit volts in 21.6..26.4 V "supply"
end

step "a gateway outside the net is refused"
    say controller: net address {address}
    say controller: net mask {mask}
    say controller: net gateway 10.99.0.1
    say controller: restart
    hear controller: refused: ...
end

step "address, mask and gateway are set"
    say controller: net gateway {gateway}
    hear controller: kept for the next start
end

step "they take effect after a restart"
    say controller: restart
    collect bootlog from controller until within 30s: ...console ready...
    keep bootlog as "controller-boot.log"
    check bootlog contains "store clean" "the store was not clean at boot"
    say controller:
    say controller: net
    all
        hear controller: address {=address}
        hear controller: mask {=mask}
        hear controller: gateway {=gateway}
    end
end

step "it is really there"
    reach "{address}" tcp {service} within 5s
end
