"""What is there, what is meant, and what a person would write to get from one to the other and back."""

from __future__ import annotations

# Where changes are typed. Each: the dialects, the texts that are there, the device in the notation, what is typed,
# and what takes it back.
TYPED: list[tuple[str, dict[str, str], str, str, str]] = [
    (
        "iproute2",
        {
            "lamp.ip": """
            link set dev lan0 up
            link set dev lan0 mtu 1400
            address replace 10.40.10.1/24 dev lan0
            address replace 10.40.11.7/24 dev lan0
            route replace 10.64.0.0/16 via 10.40.10.8
            route replace 10.65.0.0/16 via 10.40.10.9
            """
        },
        """
        interfaces:
          lan0: {address: 10.40.10.1/24, description: the office}
        routes:
          - {to: 10.64.0.0/16, via: 10.40.10.9}
          - {to: 10.66.0.0/16, discard: true}
        """,
        """
        link set dev lan0 alias "the office"
        route replace 10.64.0.0/16 via 10.40.10.9
        route replace blackhole 10.66.0.0/16
        route delete 10.65.0.0/16 via 10.40.10.9
        address delete 10.40.11.7/24 dev lan0
        link set dev lan0 mtu 1500
        """,
        """
        link set dev lan0 mtu 1400
        address replace 10.40.11.7/24 dev lan0
        route replace 10.64.0.0/16 via 10.40.10.8
        route replace 10.65.0.0/16 via 10.40.10.9
        route delete blackhole 10.66.0.0/16
        link set dev lan0 alias ""
        """,
    ),
    (
        "frr",
        {
            "lamp.frr": """
            hostname lamp
            interface lan0
             ip address 10.40.10.1/24
             description an office
             ip ospf cost 3
            exit
            ip route 10.64.0.0/16 10.40.10.8
            ip route 10.65.0.0/16 10.40.10.9 7
            ipv6 route 2001:db8:41::/48 fe80::1 lan0
            """
        },
        """
        interfaces:
          lan0: {address: [10.40.10.1/24, "2001:db8:40::1/64"]}
        routes:
          - {to: 10.64.0.0/16, via: 10.40.10.9}
          - {to: 10.65.0.0/16, via: 10.40.10.9, distance: 9}
        """,
        """
        interface lan0
         ipv6 address 2001:db8:40::1/64
        exit
        !
        ip route 10.64.0.0/16 10.40.10.9
        ip route 10.65.0.0/16 10.40.10.9 9
        no ipv6 route 2001:db8:41::/48 fe80::1 lan0
        no ip route 10.64.0.0/16 10.40.10.8
        !
        interface lan0
         no description
        exit
        !
        """,
        """
        interface lan0
         description an office
        exit
        !
        ip route 10.64.0.0/16 10.40.10.8
        ip route 10.65.0.0/16 10.40.10.9 7
        ipv6 route 2001:db8:41::/48 fe80::1 lan0
        no ip route 10.64.0.0/16 10.40.10.9
        !
        interface lan0
         no ipv6 address 2001:db8:40::1/64
        exit
        !
        """,
    ),
    (
        "nftables",
        {
            "lamp.nft": """
            table ip nat {
                chain PREROUTING {
                    type nat hook prerouting priority dstnat; policy accept;
                    iifname "wan0" ip daddr 203.0.113.3 tcp dport 443 dnat to 10.40.10.3 comment "web" # handle 3
                    tcp dport 25 redirect to :2525-2530 # handle 4
                }
                chain POSTROUTING {
                    type nat hook postrouting priority srcnat; policy accept;
                    oifname "wan0" masquerade comment "out" # handle 5
                }
            }
            """
        },
        """
        interfaces: {wan0: {address: 203.0.113.2/28}, lan0: {address: 10.40.10.1/24}}
        routes: [{to: default, via: 203.0.113.1}]
        translations:
          - {name: web, publish: 203.0.113.3, service: tcp/443, on: 10.40.10.4, facing: wan0}
          - {name: out, to: wan0, source-becomes: interface}
        """,
        """
        delete rule ip nat PREROUTING handle 4
        delete rule ip nat PREROUTING handle 3
        insert rule ip nat PREROUTING index 0 iifname "wan0" ip daddr 203.0.113.3 tcp dport 443 counter dnat to 10.40.10.4 comment "web"
        """,
        """
        flush chain ip nat PREROUTING
        add rule ip nat PREROUTING iifname "wan0" ip daddr 203.0.113.3 tcp dport 443 dnat to 10.40.10.3 comment "web"
        add rule ip nat PREROUTING tcp dport 25 redirect to :2525-2530
        """,
    ),
    (
        "iproute2 bridge",
        {
            "lamp.ip": """
            link add name br0 type bridge
            link set dev br0 type bridge vlan_filtering 1 vlan_default_pvid 0
            link set dev br0 up
            link set dev port1 master br0
            link set dev port1 up
            """,
            "lamp.bridge": """
            vlan add dev port1 vid 10 pvid untagged
            vlan add dev port1 vid 30
            """,
        },
        """
        interfaces:
          br0: {bridge: {members: [port1]}}
          port1: {untagged: 10, tagged: [20]}
        """,
        """
        vlan delete dev port1 vid 30
        vlan add dev port1 vid 20
        """,
        """
        vlan delete dev port1 vid 20
        vlan add dev port1 vid 30
        """,
    ),
    (
        "sysctl",
        {
            "lamp.conf": """
            net.ipv4.ip_forward = 0
            vm.swappiness = 10
            """
        },
        "settings: {forwarding: {ipv4: true, ipv6: true}, reverse-path: strict}",
        """
        net.ipv4.ip_forward = 1
        net.ipv6.conf.all.forwarding = 1
        net.ipv4.conf.all.rp_filter = 1
        """,
        "net.ipv4.ip_forward = 0",
    ),
]

# Where a text is edited. Each: the dialect, the text that is there, the device in the notation, the text after.
EDITED: list[tuple[str, str, str, str]] = [
    (
        "bird",
        """
        # the pier's own
        protocol device { scan time 10; }
        protocol kernel { ipv4 { export all; }; }
        protocol static harbour {
            ipv4;   # four
            route 10.64.0.0/16 via 10.40.10.8;
            route 10.65.0.0/16 via 10.40.10.9;   # to the mole
            route 10.67.0.0/16 prohibit;
        }
        """,
        """
        routes:
          - {to: 10.64.0.0/16, via: 10.40.10.9}
          - {to: 10.65.0.0/16, via: 10.40.10.9}
          - {to: 10.66.0.0/16, discard: true}
        """,
        """
        # the pier's own
        protocol device { scan time 10; }
        protocol kernel { ipv4 { export all; }; }
        protocol static harbour {
            ipv4;   # four
            route 10.64.0.0/16 via 10.40.10.9;
            route 10.65.0.0/16 via 10.40.10.9;   # to the mole
            route 10.66.0.0/16 blackhole;
        }
        """,
    ),
    (
        "ifupdown",
        """
        auto lan0
        iface lan0 inet static
            # the office
            address 10.40.10.1/24
            gateway 10.40.10.9
            mtu 1400
            post-up ip route add 10.64.0.0/16 via 10.40.10.8
            post-up touch /run/there
        """,
        """
        interfaces:
          lan0: {address: [10.40.10.1/24, 10.40.11.1/24], mtu: 1400}
        routes:
          - {to: default, via: 10.40.10.9}
        """,
        """
        auto lan0
        iface lan0 inet static
            # the office
            address 10.40.10.1/24
            gateway 10.40.10.9
            mtu 1400
            post-up touch /run/there
        iface lan0 inet static
            address 10.40.11.1/24
        """,
    ),
    (
        "ifupdown",
        """
        auto lan0
        iface lan0 inet static
            address 10.40.10.1
            netmask 255.255.255.0
            gateway 10.40.10.9
            # to the mole
            up ip route add 10.64.0.0/16 via 10.40.10.8
            post-up touch /run/there
        """,
        """
        interfaces:
          lan0: {address: 10.40.10.2/24}
        routes:
          - {to: default, via: 10.40.10.8}
          - {to: 10.64.0.0/16, via: 10.40.10.8}
        """,
        """
        auto lan0
        iface lan0 inet static
            address 10.40.10.2/24
            # to the mole
            up ip route add 10.64.0.0/16 via 10.40.10.8
            post-up touch /run/there
        iface lan0 inet manual
            up ip route replace default via 10.40.10.8 dev lan0
        """,
    ),
    (
        "ietf-yang",
        """
        {"ietf-interfaces:interfaces": {"interface": [
          {"name": "lan0", "type": "iana-if-type:ethernetCsmacd", "enabled": true,
           "ietf-ip:ipv4": {"address": [{"ip": "10.40.10.1", "prefix-length": 24, "example:why": "old"}]}}]}}
        """,
        """
        interfaces:
          lan0: {address: 10.40.10.2/24}
        """,
        """
        {
          "ietf-interfaces:interfaces": {
            "interface": [
              {
                "name": "lan0",
                "type": "iana-if-type:ethernetCsmacd",
                "enabled": true,
                "ietf-ip:ipv4": {
                  "address": [
                    {
                      "ip": "10.40.10.2",
                      "prefix-length": 24,
                      "example:why": "old"
                    }
                  ]
                }
              }
            ]
          }
        }
        """,
    ),
    (
        "netplan",
        """
        network:
          version: 2
          ethernets:
            lan0:
              # the office
              addresses: [10.40.10.1/24]
              mtu: 1400
              wakeonlan: true
              routes:
              - to: 10.64.0.0/16
                via: 10.40.10.8
        """,
        """
        interfaces:
          lan0: {address: 10.40.10.1/24, mtu: 1450}
        routes:
          - {to: 10.64.0.0/16, via: 10.40.10.8}
        """,
        """
        network:
          version: 2
          ethernets:
            lan0:
              # the office
              addresses: [10.40.10.1/24]
              mtu: 1450
              wakeonlan: true
              routes:
              - to: 10.64.0.0/16
                via: 10.40.10.8
        """,
    ),
    (
        "netplan",
        """
        network:
          version: 2
          ethernets:
            wan0:
              mtu: 1280
          bridges:
            br0:
              interfaces: [wan0]
              mtu: 1280
        """,
        # A bridge has the MTU of its members.
        """
        interfaces:
          wan0: {mtu: 1400}
          br0: {bridge: {members: [wan0]}}
        """,
        """
        network:
          version: 2
          ethernets:
            wan0:
              mtu: 1400
          bridges:
            br0:
              interfaces: [wan0]
        """,
    ),
    (
        "iptables",
        """
        # by hand
        *nat
        :PREROUTING ACCEPT [0:0]
        -A PREROUTING -d 203.0.113.3/32 -i wan0 -p tcp -m tcp --dport 443 -m comment --comment web -j DNAT --to-destination 10.40.10.3
        -A PREROUTING -i wan0 -p tcp -m tcp --dport 22 -j REDIRECT --to-ports 2222-2230
        -A POSTROUTING -o wan0 -m comment --comment out -j MASQUERADE
        COMMIT
        """,
        """
        interfaces: {wan0: {}}
        translations:
          - {name: web, publish: 203.0.113.3, service: tcp/443, on: 10.40.10.3, facing: wan0}
          - {name: out, to: wan0, source: 10.40.10.0/24, source-becomes: interface}
        """,
        """
        # by hand
        *nat
        :PREROUTING ACCEPT [0:0]
        -A PREROUTING -d 203.0.113.3/32 -i wan0 -p tcp -m tcp --dport 443 -m comment --comment web -j DNAT --to-destination 10.40.10.3
        -A PREROUTING -i wan0 -p tcp -m tcp --dport 22 -j REDIRECT --to-ports 2222-2230
        -A POSTROUTING -s 10.40.10.0/24 -o wan0 -m comment --comment "out" -j MASQUERADE
        COMMIT
        """,
    ),
    (
        "bollard",
        """
        Gateway: lamp

        Port: sea
        State: open
        Position: outer
        Address: 203.0.113.2 mask 255.255.255.240
        Paint: red

        * over the mole
        Way: 10.64.0.0 mask 255.255.0.0
        Next: 203.0.113.1
        """,
        """
        interfaces:
          sea: {address: 203.0.113.2/29}
        routes:
          - {to: 10.64.0.0/16, via: 203.0.113.1, distance: 5}
        """,
        """
        Gateway: lamp

        Port: sea
        State: open
        Position: outer
        Address: 203.0.113.2 mask 255.255.255.248
        Paint: red

        * over the mole
        Way: 10.64.0.0 mask 255.255.0.0
        Next: 203.0.113.1
        Choice: 5

        Permit: lets-pass
        """,
    ),
    (
        "bollard",
        """
        Gateway: lamp

        Port: sea
        State: open
        Position: outer
        Address: 203.0.113.2 mask 255.255.255.240

        Group: till
        Members: 10.70.1.20

        Group: shop-front
        Members: 203.0.113.5

        Group: nobody-yet
        Members: 10.70.1.99

        Service: secure-web
        Carried by: tcp
        Doors: 443

        * the till is reached at the shop front
        Welcome: till
        Kind: range
        Towards: shop-front
        For: secure-web
        Name: shop

        Permit: lets-pass
        """,
        """
        interfaces:
          sea: {address: 203.0.113.2/28}
        translations:
          - {name: shop, publish: 203.0.113.5, service: tcp/443, on: 10.70.1.20, facing: sea}
          - {name: old-shop, publish: 203.0.113.5, service: tcp/80, on: 10.70.1.20, facing: sea}
        """,
        """
        Gateway: lamp

        Port: sea
        State: open
        Position: outer
        Address: 203.0.113.2 mask 255.255.255.240

        Group: till
        Members: 10.70.1.20

        Group: shop-front
        Members: 203.0.113.5

        Group: nobody-yet
        Members: 10.70.1.99

        Service: secure-web
        Carried by: tcp
        Doors: 443

        Service: tcp-80
        Carried by: tcp
        Doors: 80

        * the till is reached at the shop front
        Welcome: till
        Kind: range
        Towards: shop-front
        For: secure-web
        Name: shop

        Welcome: till
        Kind: range
        Towards: shop-front
        For: tcp-80
        Name: old-shop

        Permit: lets-pass
        """,
    ),
    (
        "mooring",
        """
        (firewall lamp)
        (berth b1 (state afloat) (zone sea) (address 203.0.113.2 0.0.0.15)) ; the mainland
        (berth b2 (state afloat) (zone hall) (address 10.70.1.1 0.0.0.255))
        (admit (between hall and sea) (called "out"))
        (ring-the-bell twice)
        """,
        """
        interfaces:
          b1: {address: 203.0.113.2/28}
          b2: {address: 10.70.1.1/24}
        permits:
          - {name: strangers, from: b1, to: b2, source: 192.0.2.0/24, deny: true}
          - {name: out, from: b2, to: b1}
        """,
        """
        (firewall lamp)
        (berth b1 (state afloat) (zone sea) (address 203.0.113.2 0.0.0.15)) ; the mainland
        (berth b2 (state afloat) (zone hall) (address 10.70.1.1 0.0.0.255))
        (turn-away
          (between sea and hall)
          (source 192.0.2.0/24)
          (called "strangers"))
        (admit (between hall and sea) (called "out"))
        (ring-the-bell twice)
        """,
    ),
    (
        "tideway",
        """
        table ports
        port  state  mtu
        p1    up     .

        table addresses
        port  address
        p1    203.0.113.2/28

        table passing
        rank  in  to          protocol  doors  passes  log
        10    p1  10.70.1.20  tcp       443    yes     .
        30    p1  10.70.1.21  tcp       443    yes     .
        """,
        """
        interfaces:
          p1: {address: 203.0.113.2/28}
        permits:
          - {from: p1, destination: 10.70.1.20, service: tcp/443}
          - {from: p1, destination: 10.70.1.22, service: tcp/80, log: true}
          - {from: p1, destination: 10.70.1.21, service: tcp/443}
        """,
        """
        table ports
        port  state  mtu
        p1    up     .

        table addresses
        port  address
        p1    203.0.113.2/28

        table passing
        rank  in  to          protocol  doors  passes  log
        10    p1  10.70.1.20  tcp       443    yes     .
        20    p1  10.70.1.22  tcp       80     yes     yes
        30    p1  10.70.1.21  tcp       443    yes     .
        """,
    ),
    (
        "networkd",
        """
        # the office
        [Match]
        Name=lan0

        [Network]
        Address=10.40.10.1/24
        # to the mole
        DNS=10.40.10.53
        LLDP=yes

        [Route]
        Destination=10.64.0.0/16
        Gateway=10.40.10.8
        """,
        """
        interfaces:
          lan0: {address: [10.40.10.1/24, 10.40.11.1/24], resolvers: 10.40.10.54}
        routes:
          - {to: 10.64.0.0/16, via: 10.40.10.9}
          - {to: 10.65.0.0/16, via: 10.40.10.9}
        """,
        """
        # the office
        [Match]
        Name=lan0

        [Network]
        Address=10.40.10.1/24
        Address=10.40.11.1/24
        # to the mole
        DNS=10.40.10.54
        LLDP=yes

        [Route]
        Destination=10.64.0.0/16
        Gateway=10.40.10.9

        [Route]
        Destination=10.65.0.0/16
        Gateway=10.40.10.9
        """,
    ),
    (
        "tideway",
        """
        table ports
        port  state
        p1    up

        table passing
        rank  in  to          passes
        10    p1  10.70.1.20  yes
        """,
        """
        interfaces:
          p1: {mtu: 1400, address: 203.0.113.2/28}
        permits:
          - {from: p1, destination: 10.70.1.20}
          - {name: till, from: p1, destination: 10.70.1.21, service: tcp/443, log: true}
        """,
        """
        table ports
        port  state  mtu
        p1    up     1400

        table addresses
        port  address
        p1    203.0.113.2/28

        table passing
        rank  in  to          passes  protocol  doors  log  name
        10    p1  10.70.1.20  yes     .         .      .    .
        20    p1  10.70.1.21  yes     tcp       443    yes  "till"
        """,
    ),
]
