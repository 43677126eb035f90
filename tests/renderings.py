"""One intent, and what a person would write for it in each syntax."""

from __future__ import annotations

MEANT = """
interfaces:
  lan0: {address: [10.40.10.1/24, "2001:db8:40::1/64"]}
  wan0: {address: 203.0.113.2/28}
routes:
  - {to: default, via: 203.0.113.1}
  - {to: 10.64.0.0/16, via: 10.40.10.9, distance: 7}
  - {to: 10.66.0.0/16, discard: true}
translations:
  - {name: web, publish: 203.0.113.3, service: tcp/443, on: 10.40.10.3, internal-port: 8443, facing: wan0}
  - {name: camera, static: 203.0.113.6, on: 10.40.10.6, facing: wan0}
  - {name: out, to: wan0, source: 10.40.10.0/24, source-becomes: interface}
permits:
  - {name: web, from: wan0, destination: 10.40.10.3, service: tcp/8443}
  - {name: inside, from: lan0}
  - {name: strangers, source: 192.0.2.0/24, deny: true}
"""

# By the dialects that a device speaks: the name and the text of every file.
TEXTS: dict[str, dict[str, str]] = {
    "frr nftables": {
        "frr.conf": """
        hostname lamp
        !
        interface lan0
         no shutdown
         ip address 10.40.10.1/24
         ipv6 address 2001:db8:40::1/64
        exit
        !
        interface wan0
         no shutdown
         ip address 203.0.113.2/28
         ip address 203.0.113.3/32
         ip address 203.0.113.6/32
        exit
        !
        ip route 0.0.0.0/0 203.0.113.1
        ip route 10.64.0.0/16 10.40.10.9 7
        ip route 10.66.0.0/16 blackhole
        """,
        "nftables.nft": """
        table ip lattice
        delete table ip lattice
        table ip6 lattice
        delete table ip6 lattice
        table inet lattice
        delete table inet lattice
        table ip lattice {
            chain arrival {
                type nat hook prerouting priority dstnat
                iifname "wan0" ip daddr 203.0.113.3 tcp dport 443 counter dnat to 10.40.10.3:8443 comment "web"
                iifname "wan0" ip daddr 203.0.113.6 counter dnat to 10.40.10.6 comment "camera"
            }
            chain departure {
                type nat hook postrouting priority srcnat
                oifname "wan0" ip saddr 10.40.10.6 counter snat to 203.0.113.6 comment "camera"
                oifname "wan0" ip saddr 10.40.10.0/24 counter masquerade comment "out"
            }
        }
        table inet lattice {
            chain passage {
                type filter hook forward priority filter
                policy drop
                ct state established,related accept
                iifname "wan0" ip daddr 10.40.10.3 tcp dport 8443 counter accept comment "web"
                iifname "lan0" counter accept comment "inside"
                ip saddr 192.0.2.0/24 counter drop comment "strangers"
            }
        }
        """,
    },
    "iproute2 iptables ip6tables": {
        "iproute2.batch": """
        link set dev lan0 up
        link set dev wan0 up
        address replace 10.40.10.1/24 dev lan0
        address replace 2001:db8:40::1/64 dev lan0
        address replace 203.0.113.2/28 dev wan0
        route replace local 203.0.113.3/32 dev wan0
        route replace local 203.0.113.6/32 dev wan0
        route replace default via 203.0.113.1
        route replace 10.64.0.0/16 via 10.40.10.9 metric 7
        route replace blackhole 10.66.0.0/16
        """,
        "iptables.rules": """
        *nat
        -A PREROUTING -d 203.0.113.3/32 -i wan0 -p tcp -m tcp --dport 443 -m comment --comment "web" -j DNAT --to-destination 10.40.10.3:8443
        -A PREROUTING -d 203.0.113.6/32 -i wan0 -m comment --comment "camera" -j DNAT --to-destination 10.40.10.6
        -A POSTROUTING -s 10.40.10.6/32 -o wan0 -m comment --comment "camera" -j SNAT --to-source 203.0.113.6
        -A POSTROUTING -s 10.40.10.0/24 -o wan0 -m comment --comment "out" -j MASQUERADE
        COMMIT
        *filter
        :FORWARD DROP [0:0]
        -A FORWARD -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT
        -A FORWARD -d 10.40.10.3/32 -i wan0 -p tcp -m tcp --dport 8443 -m comment --comment "web" -j ACCEPT
        -A FORWARD -i lan0 -m comment --comment "inside" -j ACCEPT
        -A FORWARD -s 192.0.2.0/24 -m comment --comment "strangers" -j DROP
        COMMIT
        """,
        "ip6tables.rules": """
        # for ip6tables-restore
        *nat
        COMMIT
        *filter
        :FORWARD DROP [0:0]
        -A FORWARD -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT
        -A FORWARD -i lan0 -m comment --comment "inside" -j ACCEPT
        COMMIT
        """,
    },
    "bird ifupdown nftables": {
        "bird.conf": """
        protocol device {
        };
        protocol kernel four {
            ipv4 {
                export all;
            };
        };
        protocol kernel six {
            ipv6 {
                export all;
            };
        };
        protocol static routes4 {
            ipv4;
            route 0.0.0.0/0 via 203.0.113.1;
            route 10.64.0.0/16 via 10.40.10.9 { preference = 194; };
            route 10.66.0.0/16 blackhole;
        };
        protocol static routes6 {
            ipv6;
        };
        """,
        "interfaces": """
        auto lan0
        auto wan0
        iface lan0 inet static
            address 10.40.10.1/24
        iface lan0 inet6 static
            address 2001:db8:40::1/64
        iface wan0 inet static
            address 203.0.113.2/28
        iface wan0 inet static
            address 203.0.113.3/32
        iface wan0 inet static
            address 203.0.113.6/32
        """,
    },
    "netplan nftables": {
        "90-lattice.yaml": """
        network:
          version: 2
          ethernets:
            lan0:
              addresses:
              - 10.40.10.1/24
              - 2001:db8:40::1/64
              routes:
              - to: 10.64.0.0/16
                via: 10.40.10.9
                metric: 7
            wan0:
              addresses:
              - 203.0.113.2/28
              - 203.0.113.3/32
              - 203.0.113.6/32
              routes:
              - to: 0.0.0.0/0
                via: 203.0.113.1
            lo:
              routes:
              - to: 10.66.0.0/16
                type: blackhole
        """,
    },
    "networkd nftables": {
        "10-lan0.network": """
        [Match]
        Name=lan0

        [Link]
        ActivationPolicy=up

        [Network]
        Address=10.40.10.1/24
        Address=2001:db8:40::1/64

        [Route]
        Destination=10.64.0.0/16
        Gateway=10.40.10.9
        Metric=7
        """,
    },
    "mooring": {
        "mooring.chart": """
        (firewall lamp)
        (berth lan0
          (state afloat)
          (zone lan0)
          (address 10.40.10.1 0.0.0.255)
          (address 2001:db8:40::1/64))
        (berth wan0
          (state afloat)
          (zone wan0)
          (address 203.0.113.2 0.0.0.15)
          (answers-for 203.0.113.3/32)
          (answers-for 203.0.113.6/32))
        (course 0.0.0.0 255.255.255.255
          (next 203.0.113.1))
        (course 10.64.0.0 0.0.255.255
          (next 10.40.10.9)
          (choice 7))
        (course 10.66.0.0 0.0.255.255
          (sunk))
        (translate inward
          (between wan0 and)
          (destination 203.0.113.3)
          (carried tcp 443)
          (called "web")
          (becomes 10.40.10.3 8443))
        (translate inward
          (between wan0 and)
          (destination 203.0.113.6)
          (called "camera")
          (becomes 10.40.10.6))
        (translate outward
          (between and wan0)
          (source 10.40.10.6)
          (called "camera")
          (becomes 203.0.113.6))
        (translate outward
          (between and wan0)
          (source 10.40.10.0/24)
          (called "out")
          (own))
        (admit
          (between wan0 and)
          (destination 10.40.10.3)
          (carried tcp 8443)
          (called "web"))
        (admit
          (between lan0 and)
          (called "inside"))
        (turn-away
          (source 192.0.2.0/24)
          (called "strangers"))
        """,
    },
    "tideway": {
        "tideway.tab": """
        table router
        name
        lamp

        table ports
        port  state
        lan0  up
        wan0  up

        table addresses
        port  address
        lan0  10.40.10.1/24
        lan0  2001:db8:40::1/64
        wan0  203.0.113.2/28
        wan0  203.0.113.3/32
        wan0  203.0.113.6/32

        table ways
        to            by           distance  lost
        0.0.0.0/0     203.0.113.1  .         .
        10.64.0.0/16  10.40.10.9   7         .
        10.66.0.0/16  .            .         drop

        table rewriting
        rank  when      in    to           protocol  doors  does          becomes      door  name      out   from
        10    entering  wan0  203.0.113.3  tcp       443    rewrite       10.40.10.3   8443  "web"     .     .
        20    entering  wan0  203.0.113.6  .         .      rewrite       10.40.10.6   .     "camera"  .     .
        30    leaving   .     .            .         .      rewrite       203.0.113.6  .     "camera"  wan0  10.40.10.6
        40    leaving   .     .            .         .      port-address  .            .     "out"     wan0  10.40.10.0/24

        table passing
        rank  in    to          protocol  doors  passes  name         from
        10    wan0  10.40.10.3  tcp       8443   yes     "web"        .
        20    lan0  .           .         .      yes     "inside"     .
        30    .     .           .         .      no      "strangers"  192.0.2.0/24
        """,
    },
}
