"""Texts as systems print them and as people write them by hand, and the intents that they are."""

from __future__ import annotations

# Each: the dialects, a text, the device in the notation, and the lines that are left over.
PAIRS: list[tuple[str, str, str, list[int]]] = [
    (
        "frr sysctl",
        """
        frr version 8.4.4
        frr defaults traditional
        hostname lamp
        log syslog informational
        no ip forwarding
        service integrated-vtysh-config
        !
        router ospf
         network 10.0.0.0/8 area 0
        exit
        !
        ip route 10.64.0.0 255.255.0.0 10.40.10.9
        ip route 10.65.0.0/16 10.40.10.9 lan0 7
        ip route 10.66.0.0/16 Null0
        ip route 10.67.0.0/16 reject 250
        ip route 10.68.0.0/16 10.40.10.9 tag 7
        ipv6 route 2001:db8:41::/48 fe80::1 lan0
        !
        interface lan0
         description The "office"; ! it's # ours
         ip address 10.40.10.1 255.255.255.0
         ip address 10.40.10.2/32 label lan0:x
         ip ospf cost 3
         shutdown
        exit
        !
        interface lo
         ipv6 address 2001:db8:ffff::1/128
        exit
        end
        """,
        """
        settings: {forwarding: {ipv4: false}}
        interfaces:
          lan0: {address: [10.40.10.1/24, 10.40.10.2/32], enabled: false, description: 'The "office"; ! it''s # ours'}
          lo: {loopback: "2001:db8:ffff::1/128"}
        routes:
          - {to: 10.64.0.0/16, via: 10.40.10.9}
          - {to: 10.65.0.0/16, via: 10.40.10.9, distance: 7}
          - {to: 10.66.0.0/16, discard: true}
          - {to: 10.67.0.0/16, discard: unreachable, distance: 250}
          - {to: 10.68.0.0/16, via: 10.40.10.9}
          - {to: "2001:db8:41::/48", via: "fe80::1", interface: lan0}
        """,
        [8, 9, 16, 23],  # a tag of a route, besides
    ),
    (
        "frr sysctl",
        """
        router-id 10.255.0.9
        ipv6 forwarding
        ip route 10.61.0.0/16 null0
        ip route 10.62.0.0/16 NULL0
        ip route 10.63.0.0/16 nu
        ip route 10.64.0.0/16 10.40.10.9 vrf red
        ip route 10.65.0.0/16 10.40.10.9 nexthop-vrf red
        interface lan0 vrf red
         ip address 10.40.10.1/24
        vrf red
         vni 100
         ip route 10.66.0.0/16 10.40.10.9
         exit-vrf
        """,
        """
        settings: {forwarding: {ipv6: true}, identity: 10.255.0.9}
        interfaces: {lan0: {address: 10.40.10.1/24, instance: red}}
        routes:
          - {to: 10.61.0.0/16, discard: true}
          - {to: 10.62.0.0/16, discard: true}
          - {to: 10.64.0.0/16, via: 10.40.10.9, instance: red}
          - {to: 10.66.0.0/16, via: 10.40.10.9, instance: red}
        """,
        [5, 7],
    ),
    (
        "networkd sysctl",
        """
        [Match]
        Name=lan0

        [Network]
        Address=10.40.10.1/24
        Gateway=10.40.10.9
        IPForward=yes

        [Route]
        Gateway=2001:db8::9
        Metric=2000

        [Route]
        Destination=10.66.0.7
        Gateway=10.40.10.9

        [Route]
        Destination=10.67.0.0/16
        Gateway=_dhcp4
        """,
        """
        settings: {forwarding: true}
        interfaces: {lan0: {address: 10.40.10.1/24}}
        routes:
          - {to: default, via: 10.40.10.9}
          - {to: default, via: "2001:db8::9", interface: lan0, distance: 977}
          - {to: 10.66.0.7/32, via: 10.40.10.9}
        """,
        [17, 18, 19],
    ),
    (
        "netplan",
        """
        network:
          version: 2
          renderer: networkd
          ethernets:
            renderer: networkd
            lan0:
              macaddress: "02:00:00:00:00:01"
              tcp-segmentation-offload: true
              dhcp4: n
              addresses:
                - 10.40.10.1/24: {label: "lan0:x", lifetime: 0}
                - 10.40.11.1/24
              routes:
                - {to: 10.66.0.0/16, via: 10.40.10.9, mtu: 1400, scope: global}
                - {to: 10.67.0.0/16, via: 10.40.10.9, table: 7}
        """,
        """
        interfaces: {lan0: {address: [10.40.10.1/24, 10.40.11.1/24]}}
        routes: [{to: 10.66.0.0/16, via: 10.40.10.9}]
        """,
        [14],  # an MTU of a route; what is in another table is no route until a rule sends packets there
    ),
    (
        "netplan",  # interfaces that it calls by names of its own
        """
        network:
          version: 2
          ethernets:
            pier:
              match: {macaddress: "02:00:00:00:00:01"}
              set-name: lan0
              addresses: [10.40.10.1/24]
            sea:
              match: {name: wan0}
              dhcp4: true
              dhcp4-overrides: {use-mtu: false}
              routes: [{to: 10.66.0.0/16, via: 10.40.10.9, on-link: true}]
            spare:
              match: {driver: tide}
              mtu: 1400
          vlans:
            hall: {id: 20, link: pier, addresses: [10.40.20.1/24]}
        """,
        """
        interfaces:
          lan0: {address: 10.40.10.1/24}
          wan0: {learns: dhcp}
          spare: {mtu: 1400}
          hall: {parent: lan0, vlan: 20, address: 10.40.20.1/24}
        routes: [{to: 10.66.0.0/16, via: 10.40.10.9, interface: wan0, off-link: true}]
        """,
        [14],
    ),
    (
        "netplan",
        """
        network:
          bridges:
            br0:
              interfaces: [lan0]
              parameters: {stp: false, forward-delay: 4}
        """,
        """
        interfaces:
          br0: {bridge: {members: [lan0]}}
          lan0: {}
        """,
        [],
    ),
    (
        "iproute2",
        """
        link add br0 type bridge stp_state 0 forward_delay 200
        addr add dev br0 192.0.2.1/28
        a add dev br0 local 192.0.2.2/28 brd + label br0:1 scope global
        link set br0 up
        """,
        """
        interfaces:
          br0: {address: [192.0.2.1/28, 192.0.2.2/28], bridge: {members: []}}
        """,
        [],
    ),
    (
        "ifupdown",  # a label is part of no name
        """
        auto lan0 lan0:1
        iface lan0 inet static
          address 10.40.10.1/24
        iface lan0:1 inet static
          address 10.40.11.1
          netmask 255.255.255.0
        """,
        "interfaces: {lan0: {address: [10.40.10.1/24, 10.40.11.1/24]}}",
        [],
    ),
    (
        "ifupdown ppp",
        """
        auto dial0
        iface dial0 inet ppp
          provider dial0
        """,
        "interfaces: {dial0: {}}",
        [2],
    ),
    (
        "networkd",  # one unit for two, and several resolvers in a line
        """
        [Match]
        Name=lan0 wan0
        [Network]
        DNS=10.40.10.53 10.40.10.54
        Domains=pier.example harbour.example
        DHCP=ipv4
        [Route]
        Table=7
        Destination=10.66.0.0/16
        [Route]
        Destination=10.67.0.0/16
        Gateway=10.40.10.9
        InitialCongestionWindow=20
        """,
        """
        interfaces:
          lan0: {learns: dhcp, resolvers: [10.40.10.53, 10.40.10.54], search: [pier.example, harbour.example]}
          wan0: {learns: dhcp, resolvers: [10.40.10.53, 10.40.10.54], search: [pier.example, harbour.example]}
        routes:
          - {to: 10.67.0.0/16, via: 10.40.10.9, interface: lan0}
          - {to: 10.67.0.0/16, via: 10.40.10.9, interface: wan0}
        """,
        [],
    ),
    (
        "bird",  # what no route of the kernel is, and what a route tells others
        """
        router id 10.255.0.1;
        protocol device {} protocol kernel { persist; ipv6 { export where source ~ [RTS_BGP, RTS_STATIC]; }; }
        protocol kernel rest { kernel table 10; scan time 20; ipv6 { export none; }; }
        protocol direct { disabled; ipv4; }
        protocol static labels { vpn4; route 10:10 10.20.0.0/24 via 192.0.2.2 mpls 210; }
        protocol static six {
          ipv6;
          route 2001:db8:1::/64 via fe80::1 % sea0;
          route 2001:db8:2::/64 via 2001:db8::9 { bgp_community.add((1,2)); };
        }
        """,
        """
        settings: {identity: 10.255.0.1}
        interfaces: {sea0: {}}
        routes:
          - {to: "2001:db8:1::/64", via: "fe80::1", interface: sea0}
          - {to: "2001:db8:2::/64", via: "2001:db8::9"}
        """,
        [],
    ),
    (
        "ifupdown",
        """
        auto lo  lan0 wan0
        iface lo inet loopback
        iface lan0 inet static
          address 10.40.10.1/24
          hwaddress 02:00:00:00:00:01
        iface wan0 inet dhcp
        iface spare inet manual
        """,
        """
        interfaces: {lan0: {address: 10.40.10.1/24}, wan0: {learns: dhcp}, spare: {enabled: false}, lo: {loopback: []}}
        """,
        [],
    ),
    (
        "bird",
        """
        /* routes that
           never reach the main table */
        ipv4 table other;
        protocol static { ipv4; route 10.60.0.0/16 via 10.40.10.9; }
        protocol static { ipv4 { table other; }; route 10.61.0.0/16 via 10.40.10.9; }
        protocol static { ipv4 { import none; }; route 10.62.0.0/16 via 10.40.10.9; }
        protocol static { ipv4 { preference 50; }; route 10.63.0.0/16 via 10.40.10.9; }
        protocol static { disabled; ipv4; route 10.64.0.0/16 via 10.40.10.9; }
        protocol device { }
        protocol kernel { disabled; ipv4 { export all; }; }
        protocol static { ipv4 { import all; export none; table master4; }; route 10.65.0.0/16 via 10.40.10.9; }
        protocol static { ipv4 { import all; import filter tide; }; route 10.66.0.0/16 via 10.40.10.9; }
        protocol static { ipv6 { import where false; }; route 2001:db8:67::/48 via 2001:db8::9; }
        protocol static { ipv4 { import none; import all; }; route 10.67.0.0/16 via 10.40.10.9; }
        """,
        """
        routes: [{to: 10.60.0.0/16, via: 10.40.10.9}, {to: 10.65.0.0/16, via: 10.40.10.9}]
        """,
        [3, 4, 5, 5, 5, 5, 7, 7, 7, 7, 12, 12, 12, 12, 12, 14, 14, 14, 14, 14],  # nothing exports line 4 to the kernel
    ),
    (
        "iproute2",
        """
        [{"dst": "10.61.0.0/16", "gateway": "10.40.10.9", "dev": "lan0", "protocol": "static", "flags": []},
         {"dst": "10.62.0.0/16", "gateway": "10.40.10.9", "dev": "lan0", "protocol": "bgp", "flags": []},
         {"dst": "10.63.0.0/16", "gateway": "10.40.10.9", "dev": "lan0", "protocol": "zebra", "flags": []},
         {"dst": "10.64.0.0/16", "gateway": "10.40.10.9", "dev": "lan0", "protocol": "196", "flags": []}]
        """,
        """
        interfaces: {lan0: {}}
        routes:
          - {to: 10.61.0.0/16, via: 10.40.10.9, interface: lan0}
          - {to: 10.64.0.0/16, via: 10.40.10.9, interface: lan0}
        """,
        [2, 3],
    ),
    (
        "nftables",
        """
        table ip filter { # not ours
            chain input {
                type filter hook input priority filter; policy drop;
                iifname "lan0" accept
            }
        }
        table ip nat {
            chain PREROUTING {
                type nat hook prerouting priority -100; policy accept;
                ip daddr 203.0.113.5 iifname { "wan1", "wan0" } tcp dport { 80, 81-82, https } dnat to 10.40.10.7
                ip daddr 203.0.113.6 counter packets 12 bytes 900 dnat to 10.40.10.8 comment "both ways"
                ip daddr 203.0.113.7 udp dport 5000 dnat to 10.40.10.9:53
                ip saddr 192.0.2.0/24 ip saddr 192.0.2.7 accept
                tcp dport 25 redirect to :2525
            }
            chain POSTROUTING {
                type nat hook postrouting priority srcnat; policy accept;
                ip protocol icmp accept
                ip saddr 10.40.10.8 snat to 203.0.113.6 comment "both ways"
                oifname "wan0" ip saddr != 10.0.0.0/8 masquerade
                oifname "wan0" ip saddr { 10.40.10.0/24, 10.41.0.0-10.41.0.9 } snat to 203.0.113.8/30
                oifname "wan0" ip saddr 10.40.11.0/24 snat to 203.0.113.9 persistent
            }
        }
        """,
        """
        translations:
          - {publish: 203.0.113.5, service: [tcp/80-82, tcp/443], on: 10.40.10.7, facing: [wan0, wan1]}
          - {exempt: true, service: icmp, at: departure}
          - {name: both ways, static: 203.0.113.6, on: 10.40.10.8}
          - {publish: 203.0.113.7, service: udp/5000, on: 10.40.10.9, internal-port: 53}
          - {exempt: true, source: 192.0.2.7, at: arrival}
          - {intercept: true, service: tcp/25, port: 2525}
          - {to: wan0, source: [0.0.0.0-9.255.255.255, 11.0.0.0-255.255.255.255], source-becomes: interface}
          - {to: wan0, source: [10.40.10.0/24, 10.41.0.0-10.41.0.9], source-becomes: {pool: 203.0.113.8-203.0.113.11}}
          - {to: wan0, source: 10.40.11.0/24, source-becomes: {pool: 203.0.113.9}}
        """,
        [22],
    ),
    (
        "iproute2",
        """
        # by hand
        link set dev lan0 mtu 9000
        link set dev lan0 alias "the office"
        link set dev lan0 down
        address replace 10.40.10.1/24 dev lan0
        address replace 2001:db8::1/64 dev lan0
        route replace default via 10.40.10.9
        route replace blackhole 10.0.0.0/8 metric 9
        route replace 2001:db8:1::/48 via 2001:db8::2 metric 1030
        route replace 10.1.0.0/16 via 10.40.10.9 table 7
        rule add from 10.0.0.0/8 table 7
        link add br0 type bridge vlan_filtering 1 vlan_protocol 802.1ad
        a add 10.40.11.1/24 brd + dev lan1
        link set lan1 up mtu 1400
        r add 10.2.0.1 dev lan1 via 10.40.11.9
        """,
        """
        interfaces:
          lan0: {address: [10.40.10.1/24, "2001:db8::1/64"], enabled: false, mtu: 9000, description: the office}
          lan1: {address: 10.40.11.1/24, mtu: 1400}
        routes:
          - {to: default, via: 10.40.10.9}
          - {to: 10.0.0.0/8, discard: true, distance: 9}
          - {to: "2001:db8:1::/48", via: "2001:db8::2", distance: 7}
          - {to: 10.2.0.1/32, via: 10.40.11.9}
        """,
        [10, 11, 12],  # those are tags of other sorts
    ),
    (
        "iproute2",
        """
        [{"dst":"default","gateway":"10.40.10.9","dev":"lan0","flags":["linkdown"]},
        {"dst":"default","gateway":"10.40.10.8","dev":"lan0","protocol":"dhcp","metric":100,"flags":[]},
        {"type":"unreachable","dst":"10.0.0.0/8","metric":250,"flags":[]},
        {"dst":"10.2.0.1","dev":"lan0","scope":"link","metric":4,"flags":[]},
        {"dst":"10.3.0.0/16","dev":"lan0","table":"7","flags":[]},
        {"dst":"10.4.0.0/16","nexthops":[{"gateway":"10.40.10.7","dev":"lan0","effect":1,"flags":[]}],"flags":[]},
        {"dst":"2001:db8:41::/48","gateway":"fe80::1","dev":"lan0","metric":1028,"flags":[],"pref":"medium"},
        {"dst":"default","gateway":"fe80::9","dev":"lan0","protocol":"ra","metric":1024,"flags":[],"pref":"medium"},
        {"type":"local","dst":"10.40.10.1","dev":"lan0","table":"local","protocol":"kernel","scope":"host","flags":[]}]
        """,
        """
        routes:
          - {to: default, via: 10.40.10.9, interface: lan0}
          - {to: 10.0.0.0/8, discard: unreachable, distance: 250}
          - {to: 10.2.0.1/32, interface: lan0, distance: 4}
          - {to: "2001:db8:41::/48", via: "fe80::1", interface: lan0, distance: 5}
        """,
        [2, 5, 6, 8],  # two are for what no intent says, and two were learned
    ),
    (
        "bird",
        """
        log syslog all;
        router id 10.255.0.9;    # said, since there is no address yet
        protocol device { scan time 10; }
        protocol direct { ipv4; }
        protocol kernel {
            ipv4 { export all; };
        }
        protocol static harbour {
            ipv4;
            route 10.64.0.0/16 via 10.40.10.9;
            route 10.65.0.0/16 via "lan0";
            route 10.66.0.0/16 blackhole;
            route 10.67.0.0/16 prohibit { preference = 150; };
            route 10.69.0.0/16 reject;
            route 10.68.0.0/16 via 10.40.10.9 effect 2 via 10.40.10.8;
        }
        protocol static {
            ipv6;
            route 2001:db8:41::/48 via fe80::1%'lan0';
            route ::/0 unreachable;
        }
        """,
        """
        settings: {identity: 10.255.0.9}
        routes:
          - {to: 10.64.0.0/16, via: 10.40.10.9}
          - {to: 10.65.0.0/16, interface: lan0}
          - {to: 10.66.0.0/16, discard: true}
          - {to: 10.67.0.0/16, discard: prohibit, distance: 51}
          - {to: 10.69.0.0/16, discard: unreachable}
          - {to: "2001:db8:41::/48", via: "fe80::1", interface: lan0}
          - {to: "::/0", discard: unreachable}
        """,
        [15, 19],  # two ways, which an intent cannot say, and nothing exports IPv6
    ),
    (
        "netplan",
        """
        network:
          version: 2
          renderer: networkd
          ethernets:
            lan0:
              dhcp4: no
              mtu: 1400
              addresses: [10.40.10.1/24, "2001:db8:40::1/64"]
              nameservers:
                addresses: [10.40.10.53]
              wakeonlan: true
              routes:
                - to: default
                  via: 10.40.10.9
                - {to: 10.66.0.0/16, type: blackhole, metric: 7}
            wan0: {dhcp4: true, accept-ra: true}
          vlans:
            lan0.20: {id: 20, link: lan0, addresses: [10.40.20.1/24]}
          bridges:
            br0: {interfaces: [wan0], addresses: [10.40.30.1/24]}
        """,
        """
        interfaces:
          lan0: {address: [10.40.10.1/24, "2001:db8:40::1/64"], mtu: 1400, resolvers: 10.40.10.53}
          wan0: {learns: [dhcp, slaac]}
          br0: {address: 10.40.30.1/24, bridge: {members: [wan0]}}
          lan0.20: {address: 10.40.20.1/24, parent: lan0, vlan: 20}
        routes:
          - {to: default, via: 10.40.10.9}
          - {to: 10.66.0.0/16, discard: true, distance: 7}
        """,
        [],
    ),
    (
        "networkd",
        """
        # 20-lan.network
        [Match]
        Name=lan0

        [Link]
        MTUBytes=1400
        RequiredForOnline=no

        [Network]
        Description=The office
        DHCP=ipv4
        IPv6AcceptRA=no
        DNS=10.40.10.53
        Address=10.40.10.1/24

        [Address]
        Address=2001:db8:40::1/64

        [Route]
        Destination=10.64.0.0/16
        Gateway=10.40.10.9
        GatewayOnLink=yes

        [Route]
        Destination=2001:db8:41::/48
        Gateway=fe80::1
        Metric=1030
        """,
        """
        interfaces:
          lan0:
            address: [10.40.10.1/24, "2001:db8:40::1/64"]
            mtu: 1400
            description: The office
            learns: dhcp
            resolvers: 10.40.10.53
        routes:
          - {to: 10.64.0.0/16, via: 10.40.10.9}
          - {to: "2001:db8:41::/48", via: "fe80::1", interface: lan0, distance: 7}
        """,
        [7],
    ),
    (
        "ifupdown",
        """
        # The loopback network interface
        auto lo
        iface lo inet loopback
        source /etc/network/interfaces.d/*

        allow-hotplug lan0
        iface lan0 inet static
            address 10.40.10.1
            netmask 255.255.255.0
            gateway 10.40.10.9
            post-up ip route add 10.64.0.0/16 via 10.40.10.8
            post-up iptables-restore /etc/iptables.rules
        iface lan0 inet6 static
            address 2001:db8:40::1/64
            mtu 1400
        iface wan0 inet dhcp
        auto lan0.20
        iface lan0.20 inet static
            address 10.40.20.1/24
            vlan-raw-device lan0
            vlan-id 20
        """,
        """
        interfaces:
          lan0: {address: [10.40.10.1/24, "2001:db8:40::1/64"]}
          lan0.20: {address: 10.40.20.1/24, parent: lan0, vlan: 20}
          wan0: {enabled: false, learns: dhcp}
          lo: {loopback: []}
        routes:
          - {to: default, via: 10.40.10.9}
          - {to: 10.64.0.0/16, via: 10.40.10.8}
        """,
        [4, 12, 15],  # an MTU of IPv6 is not that of the link
    ),
    (
        "ifupdown",
        """
        auto lan0
        iface lan0 inet static
            address 10.40.10.1
            netmask 24
            up ip route add 10.65.0.0/16 via 10.40.10.8 table 100
        auto wan0
        iface wan0 inet dhcp
            hostname quay
            mtu 1400
        """,
        """
        interfaces:
          lan0: {address: 10.40.10.1/24}
          wan0: {mtu: 1400, learns: dhcp}
        """,
        [5],
    ),
    (
        "ifupdown",
        """
        auto lan0
        iface lan0 inet6 static
            address 2001:db8:40::1/64
            accept_ra 2
            autoconf 0
        """,
        """
        interfaces:
          lan0: {address: "2001:db8:40::1/64"}
        """,
        [4],
    ),
    (
        "ifupdown",
        """
        auto l0
        iface l0 inet static
            address 10.42.1.1
            netmask 255.255.255.255
            pointopoint 10.42.1.2
            gateway 10.42.1.2
        """,
        """
        interfaces: {l0: {address: 10.42.1.1/32}}
        routes:
          - {to: default, via: 10.42.1.2, interface: l0, off-link: true}
          - {to: 10.42.1.2/32, interface: l0}
        """,
        [],
    ),
    (
        "iproute2",
        """
        link set l0 up
        address add 10.42.1.1 peer 10.42.1.2 dev l0
        address add dev l1 local 2001:db8:40::1 peer 2001:db8:40::2
        address add 10.42.2.1 peer 10.42.2.0/24 dev l2
        """,
        """
        interfaces: {l0: {address: 10.42.1.1/32}, l1: {address: "2001:db8:40::1/128"}}
        routes: [{to: 10.42.1.2/32, interface: l0}, {to: "2001:db8:40::2/128", interface: l1}]
        """,
        [3, 4],  # of l1 nothing says that it is up
    ),
    (
        "iproute2",
        """
        [{"ifname": "l0", "flags": ["UP"], "addr_info": [
           {"family": "inet", "local": "10.42.1.1", "address": "10.42.1.2", "prefixlen": 32, "scope": "global"},
           {"family": "inet", "local": "10.42.2.1", "address": "10.42.2.2", "prefixlen": 24, "scope": "global"}]}]
        """,
        """
        interfaces: {l0: {address: [10.42.1.1/32, 10.42.2.1/24]}}
        routes: [{to: 10.42.1.2/32, interface: l0}]
        """,
        [3],
    ),
    (
        "nftables",  # as it prints what another program put there, with its extensions and without
        """
        table ip filter {
            chain FORWARD {
                type filter hook forward priority filter; policy drop;
                ct state established,related accept
                tcp dport 22 xt match recent counter packets 0 bytes 0 accept
                tcp dport 23 # xt_recent counter packets 0 bytes 0 accept
                tcp dport 25 accept
            }
        }
        table ip nat {
            chain POSTROUTING {
                type nat hook postrouting priority srcnat; policy accept;
                ip saddr 10.0.0.0/24 masquerade fully-random,persistent
                ip saddr 10.0.1.0/24 snat to 192.0.2.7 random
            }
        }
        """,
        """
        permits: [{source: 0.0.0.0/0, service: tcp/25}, {source: "::/0"}]
        translations:
          - {source: 10.0.0.0/24, source-becomes: interface}
          - {source: 10.0.1.0/24, source-becomes: {pool: 192.0.2.7}}
        """,
        [5, 6, 13, 14],  # how ports are chosen, too
    ),
    (
        "iptables ip6tables",
        """
        # Table `filter' contains incompatible base-chains, use 'nft' tool to list them.
        # Generated by iptables-save v1.8.9 (nf_tables)
        *filter
        :INPUT ACCEPT [0:0]
        :FORWARD DROP [0:0]
        :OUTPUT ACCEPT [0:0]
        -A FORWARD -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT
        -A FORWARD -i lan0 -j ACCEPT
        COMMIT
        # Warning: iptables-legacy tables present, use iptables-legacy-save to see them
        """,
        """
        permits: [{from: lan0, source: 0.0.0.0/0}, {source: "::/0"}]
        """,
        [1, 10],
    ),
    (
        "iproute2",  # a rule of its own, before which nothing of the table is known
        """
        [{"priority": 0, "src": "all", "table": "local"},
         {"priority": 100, "src": "10.40.66.0", "srclen": 24, "action": "blackhole"},
         {"priority": 32766, "src": "all", "table": "main", "protocol": "kernel"},
         {"priority": 32767, "src": "all", "table": "default"}]
        """,
        "speaks: [iproute2]",
        [2],
    ),
    (
        "iproute2",  # another tag than that of IEEE 802.1Q, and an address that somebody else has as well
        """
        [{"ifname": "lan0", "flags": ["UP"], "mtu": 1500, "addr_info": [
           {"family": "inet6", "local": "2001:db8:40::1", "prefixlen": 64, "dadfailed": true}]},
         {"ifname": "lan0.20", "link": "lan0", "flags": ["UP"], "mtu": 1500, "addr_info": [],
          "linkinfo": {"info_kind": "vlan", "info_data": {"protocol": "802.1Q", "id": 20, "flags": ["REORDER_HDR"]}}},
         {"ifname": "lan0.30", "link": "lan0", "flags": ["UP"], "mtu": 1500, "addr_info": [],
          "linkinfo": {"info_kind": "vlan", "info_data": {"protocol": "802.1ad", "id": 30}}}]
        """,
        """
        interfaces:
          lan0: {address: "2001:db8:40::1/64"}
          lan0.20: {parent: lan0, vlan: 20}
          lan0.30: {parent: lan0, vlan: 30}
        """,
        [2, 6],
    ),
    (
        "iproute2",
        """
        [{"ifname": "bond0", "flags": ["UP"], "mtu": 1500, "linkinfo": {"info_kind": "bond"}, "addr_info": []},
         {"ifname": "p0", "flags": ["UP"], "mtu": 1500, "master": "bond0", "addr_info": []},
         {"ifname": "br0", "flags": ["UP"], "mtu": 1500, "linkinfo": {"info_kind": "bridge"}, "addr_info": []},
         {"ifname": "p1", "flags": ["UP"], "mtu": 1500, "master": "br0", "addr_info": []}]
        """,
        """
        interfaces: {bond0: {}, br0: {bridge: {members: [p1]}}, p0: {}, p1: {}}
        """,
        [2],
    ),
    (
        "sysctl",
        """
        net.ipv4.ip_forward=1
        net.ipv6.conf.all.forwarding =0
        net.ipv4.conf.wan0.rp_filter = 2
        net.ipv4.conf.default.forwarding = 0
        net.ipv4.tcp_syncookies=1
        net.ipv6.conf.lan0.disable_ipv6 = 1
        net.ipv6.conf.wan0.disable_ipv6 = 0
        net.ipv4.conf.lan0.forwarding = 0
        net.ipv6.conf.wan0.accept_ra = 2
        """,
        """
        settings: {forwarding: {ipv4: true, ipv6: false}}
        """,
        [3, 4, 6, 8, 9],
    ),
    (
        "ietf-yang",
        """
        {"ietf-interfaces:interfaces": {"interface": [{
          "name": "lan0", "type": "iana-if-type:ethernetCsmacd",
          "ietf-ip:ipv4": {"address": [
            {"ip": "10.40.10.1", "netmask": "255.255.255.0"},
            {"ip": "10.40.11.1"}
          ]}
        }]}}
        """,
        """
        interfaces: {lan0: {address: 10.40.10.1/24}}
        """,
        [5, 5],
    ),
    (
        "netplan",
        """
        network:
          ethernets:
            lan0:
              dhcp4: n
              gateway4: 10.40.10.9
              addresses: [10.40.10.1/24, {10.40.10.2/24: {label: "lan0:1"}}]
        """,
        """
        interfaces: {lan0: {address: [10.40.10.1/24, 10.40.10.2/24]}}
        routes: [{to: default, via: 10.40.10.9}]
        """,
        [],
    ),
    (
        "iptables ip6tables",
        """
        # Generated by iptables-save v1.8.9 (nf_tables) on Mon Nov 23 09:00:00 2026
        *nat
        :PREROUTING ACCEPT [0:0]
        :INPUT ACCEPT [0:0]
        :OUTPUT ACCEPT [0:0]
        :POSTROUTING ACCEPT [12:840]
        -A PREROUTING -d 203.0.113.3/32 -i wan0 -p tcp -m tcp --dport 443 -m comment --comment web -j DNAT --to-destination 10.40.10.3:8443
        -A PREROUTING -d 203.0.113.4/32 -i wan0 -p tcp -m multiport --dports 80,8000:8010 -m comment --comment "two doors" -j DNAT --to-destination 10.40.10.4
        -A PREROUTING -i wan0 -p tcp -m tcp --dport 22 -j REDIRECT --to-ports 2222
        -A POSTROUTING -s 10.40.10.0/24 -o wan0 -m comment --comment out -j SNAT --to-source 203.0.113.8-203.0.113.11
        -A POSTROUTING -o wan0 -j MASQUERADE
        COMMIT
        # Completed on Mon Nov 23 09:00:00 2026
        *filter
        :INPUT DROP [3:180]
        :FORWARD DROP [0:0]
        :OUTPUT ACCEPT [0:0]
        -A INPUT -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT
        -A INPUT -i lo -j ACCEPT
        -A INPUT -s 10.40.99.0/24 -i lan0 -p tcp -m tcp --dport 22 -m comment --comment admin -j ACCEPT
        -A FORWARD -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT
        -A FORWARD -s 10.40.66.0/24 -m comment --comment never -j DROP
        -A FORWARD -d 10.40.10.3/32 -i wan0 -p tcp -m tcp --dport 8443 -m comment --comment web -j ACCEPT
        -A FORWARD -i wan0 -p icmp -m icmp --icmp-type 8 -m comment --comment ping -j ACCEPT
        COMMIT
        """,
        """
        translations:
          - {name: web, publish: 203.0.113.3, service: tcp/443, on: 10.40.10.3, internal-port: 8443, facing: wan0}
          - {name: two doors, publish: 203.0.113.4, service: [tcp/80, tcp/8000-8010], on: 10.40.10.4, facing: wan0}
          - {intercept: true, from: wan0, service: tcp/22, port: 2222}
          - {name: out, to: wan0, source: 10.40.10.0/24, source-becomes: {pool: 203.0.113.8-203.0.113.11}}
          - {to: wan0, source-becomes: interface}
        permits:
          - {name: never, source: 10.40.66.0/24, deny: true}
          - {name: web, from: wan0, destination: 10.40.10.3, service: tcp/8443}
          - {name: ping, from: wan0, service: icmp/echo-request}
          - {source: "::/0"}   # what no list is for passes
        management:
          - {name: admin, from: lan0, source: 10.40.99.0/24, service: tcp/22}
          - {source: "::/0"}
        """,
        [],
    ),
    (
        "ip6tables iptables",
        """
        # Generated by ip6tables-save v1.8.9 (nf_tables) on Mon Nov 23 09:00:00 2026
        *filter
        :INPUT ACCEPT [0:0]
        :FORWARD DROP [0:0]
        :OUTPUT ACCEPT [0:0]
        -A FORWARD -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT
        -A FORWARD -d 2001:db8:40::3/128 -i wan0 -p tcp -m tcp --dport 443 -m comment --comment web -j ACCEPT
        -A FORWARD -i wan0 -p ipv6-icmp -m icmp6 --icmpv6-type 128 -m comment --comment ping -j ACCEPT
        -A FORWARD -m mark --mark 0x7 -j ACCEPT
        COMMIT
        """,
        """
        permits:
          - {source: 0.0.0.0/0}   # what no list is for passes
          - {name: web, from: wan0, destination: "2001:db8:40::3", service: tcp/443}
          - {name: ping, from: wan0, service: icmp6/echo-request}
        """,
        [9],
    ),
    (
        "iptables ip6tables",
        """
        *filter
        :INPUT ACCEPT [0:0]
        -A INPUT -i lo -j ACCEPT
        -A INPUT -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT
        -A INPUT -s 10.40.99.0/24 -p tcp -m tcp --dport 22 -m comment --comment admin -j ACCEPT
        -A INPUT -p icmp -m icmp --icmp-type 8 -j ACCEPT
        -A INPUT -j DROP
        -A INPUT -s 10.40.98.0/24 -j ACCEPT
        COMMIT
        """,
        """
        management:
          - {name: admin, source: 10.40.99.0/24, service: tcp/22}
          - {service: icmp/echo-request}
          - {source: 0.0.0.0/0, deny: true}
          - {source: 10.40.98.0/24}
          - {}   # by the policy, and what no list is for
        """,
        [],
    ),
    (
        "iproute2 bridge",
        """
        # for bridge -batch
        vlan add dev port1 vid 10 pvid untagged
        vlan add dev port3 vid 10
        vlan add dev port3 vid 20
        vlan add dev port4 vid 30 untagged
        vlan add dev br0 vid 10 self
        fdb add 02:00:00:00:00:01 dev port1
        """,
        """
        interfaces:
          port1: {untagged: 10}
          port3: {tagged: [10, 20]}
          br0: {bridge: {members: [], vlans: [10]}}
        """,
        [5, 7],
    ),
    (
        "bridge",
        """
        [ {"ifname": "port1", "vlans": [ {"vlan": 10, "flags": ["PVID", "Egress Untagged"]}, {"vlan": 20} ] },
          {"ifname": "port2", "vlans": [ {"vlan": 30, "flags": ["PVID"]} ] } ]
        """,
        """
        interfaces:
          port1: {tagged: 20, untagged: 10}
          port2: {}   # it is named
        """,
        [2],
    ),
    (
        "resolv",
        """
        # Written by hand.
        search harbour.example
        options timeout:1
        nameserver 10.40.10.53
        nameserver 2001:db8:40::53
        nameserver ns.harbour.example
        """,
        """
        settings: {resolvers: [10.40.10.53, "2001:db8:40::53"], search: harbour.example}
        """,
        [6],
    ),
    (
        "hosts",
        """
        127.0.0.1       localhost
        127.0.1.1       quay.example quay
        10.47.0.10      booking booking.example   # two names
        2001:db8:47::10 booking
        10.47.0.1o      till

        ::1     localhost ip6-localhost ip6-loopback
        ff02::1 ip6-allnodes
        """,
        """
        settings: {hosts: {booking: [10.47.0.10, "2001:db8:47::10"], booking.example: 10.47.0.10}}
        """,
        [5],
    ),
    (
        "sysctl",
        """
        ; who may pass
        net.ipv4.ip_forward = 1
        net.ipv6.conf.all.forwarding = 0
        net.ipv4.conf.all.rp_filter = 2
        net.ipv4.conf.wan0.proxy_arp = 1
        vm.swappiness = 10
        """,
        """
        settings: {forwarding: {ipv4: true, ipv6: false}, reverse-path: loose}
        """,
        [5],
    ),
    (
        "ietf-yang",
        """
        {
          "ietf-interfaces:interfaces": {
            "interface": [
              {
                "name": "lan0",
                "type": "iana-if-type:ethernetCsmacd",
                "description": "The office",
                "enabled": false,
                "ietf-ip:ipv4": {
                  "address": [{"ip": "10.40.10.1", "prefix-length": 24}],
                  "mtu": 1400
                }
              },
              {"name": "lo0", "type": "iana-if-type:softwareLoopback",
               "ietf-ip:ipv6": {"address": [{"ip": "2001:db8:ff::1", "prefix-length": 128}]}}
            ]
          },
          "ietf-routing:routing": {
            "control-plane-protocols": {
              "control-plane-protocol": [
                {
                  "type": "ietf-routing:static",
                  "name": "by-hand",
                  "static-routes": {
                    "ietf-ipv4-unicast-routing:ipv4": {
                      "route": [
                        {"destination-prefix": "10.64.0.0/16", "next-hop": {"next-hop-address": "10.40.10.9"}},
                        {"destination-prefix": "10.66.0.0/16", "next-hop": {"special-next-hop": "blackhole"}}
                      ]
                    }
                  }
                }
              ]
            }
          }
        }
        """,
        """
        interfaces:
          lan0: {address: 10.40.10.1/24, description: The office, enabled: false}
          lo0: {loopback: "2001:db8:ff::1/128"}
        routes:
          - {to: 10.64.0.0/16, via: 10.40.10.9}
          - {to: 10.66.0.0/16, discard: true}
        """,
        [11],
    ),
    (
        "ietf-yang",
        """
        <data xmlns="urn:ietf:params:xml:ns:netconf:base:1.0">
          <if:interfaces xmlns:if="urn:ietf:params:xml:ns:yang:ietf-interfaces"
              xmlns:t="urn:ietf:params:xml:ns:yang:iana-if-type">
            <if:interface>
              <if:name>lan0</if:name>
              <if:type>t:ethernetCsmacd</if:type>
              <ipv4 xmlns="urn:ietf:params:xml:ns:yang:ietf-ip">
                <address><ip>10.40.10.1</ip><prefix-length>24</prefix-length></address>
                <forwarding>true</forwarding>
              </ipv4>
            </if:interface>
          </if:interfaces>
        </data>
        """,
        """
        interfaces:
          lan0: {address: 10.40.10.1/24}
        """,
        [9],
    ),
    (
        "ietf-nat",
        """
        {
          "ietf-nat:nat": {
            "instances": {
              "instance": [
                {
                  "id": 7,
                  "name": "camera",
                  "type": "ietf-nat:basic-nat44",
                  "enable": true,
                  "policy": [{"id": 1, "external-realm": {"external-interface": "wan0"}}],
                  "mapping-table": {"mapping-entry": [
                    {"index": 1, "type": "static",
                     "internal-src-address": "10.40.10.6/32", "external-src-address": "203.0.113.6/32"}]}
                },
                {
                  "id": 8,
                  "type": "ietf-nat:napt44",
                  "per-vrf": true
                }
              ]
            }
          }
        }
        """,
        """
        translations:
          - {name: camera, static: 203.0.113.6, on: 10.40.10.6, facing: wan0}
        """,
        [16, 16, 17, 18],
    ),
    (
        "bollard",
        """
        Gateway: slip-7

        Port: sea
        State: open
        Position: outer
        Address: 203.0.113.2 mask 255.255.255.240
        Paint: red

        Way: 10.64.0.0 mask 255.255.0.0
        Ending: refused
        Choice: 9

        Group: hall
        Members: 10.70.1.0-10.70.1.255, 10.70.9.9

        * nobody is turned away here
        Farewell: untouched
        Of: hall
        Towards: nobody-declared-this
        """,
        """
        interfaces:
          sea: {address: 203.0.113.2/28}
        routes:
          - {to: 10.64.0.0/16, discard: unreachable, distance: 9}
        """,
        [7, 17],
    ),
    (
        "mooring",
        """
        (firewall pier-3)
        (berth b1 (state aground) (zone sea) (address 203.0.113.2 0.0.0.15)) ; the mainland
        (berth b2
          (state afloat) (zone hall) (address 10.70.1.1 0.0.0.255))
        (course 10.64.0.0 0.0.255.255 (next 10.70.1.9) (choice 7))
        (translate outward (between hall and sea) (source 10.70.1.0/24) (own))
        (turn-away (between sea and hall) (source 192.0.2.0/24) (called "strangers"))
        (admit noted (between sea and hall) (destination 10.70.1.20) (carried tcp 443))
        (ring-the-bell twice)
        """,
        """
        interfaces:
          b1: {zone: sea, address: 203.0.113.2/28, enabled: false}
          b2: {zone: hall, address: 10.70.1.1/24}
        routes:
          - {to: 10.64.0.0/16, via: 10.70.1.9, distance: 7}
        translations:
          - {from: b2, to: b1, source: 10.70.1.0/24, source-becomes: interface}
        permits:
          - {name: strangers, from: b1, to: b2, source: 192.0.2.0/24, deny: true}
          - {from: b1, to: b2, destination: 10.70.1.20, service: tcp/443, log: true}
        """,
        [9],
    ),
    (
        "tideway",
        """
        table ports
        port  state  mtu
        p1    up     .
        p2    down   1400

        table addresses
        port  address
        p1    203.0.113.2/28
        p2    10.70.1.1/24

        table ways
        to             by           distance
        0.0.0.0/0      203.0.113.1  .
        10.64.0.0/16   10.70.1.9    7
        10.65.0.0/16   over-there   7

        table rewriting
        rank  when     in  out  from          to  protocol  doors  does          becomes  name
        20    leaving  .   p1   10.70.1.0/24  .   .         .      port-address  .        "hall"

        table passing
        rank  in  to          protocol  doors  passes  log
        20    p2  .           .         .      yes     .
        10    p1  10.70.1.20  tcp       443    no      yes
        """,
        """
        interfaces:
          p1: {address: 203.0.113.2/28}
          p2: {address: 10.70.1.1/24, mtu: 1400, enabled: false}
        routes:
          - {to: default, via: 203.0.113.1}
          - {to: 10.64.0.0/16, via: 10.70.1.9, distance: 7}
        translations:
          - {name: hall, to: p1, source: 10.70.1.0/24, source-becomes: interface}
        permits:
          - {from: p1, destination: 10.70.1.20, service: tcp/443, deny: true, log: true}
          - {from: p2}
        """,
        [15],
    ),
]
