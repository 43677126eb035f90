"""What closes differences: applied, there is none left; taken back, all is as it was."""

from __future__ import annotations

import json
import re
import tempfile
import textwrap
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

import agile_lattice as al
from agile_lattice.cli.main import main
from agile_lattice.compare.equivalence import between, verdict
from agile_lattice.compare.mending import mend
from agile_lattice.dialects import read_device, render_device
from agile_lattice.dialects.errors import ChangeError
from agile_lattice.intent.addresses import Address
from agile_lattice.intent.model import Device, Settings
from agile_lattice.intent.normal import normal
from agile_lattice.notation.loading import load, loads
from soundness import as_captured
from strategies import HOSTS
from test_changes import Folder, clean, felt, mended
from test_laws import SOME
from where import DEMO, ROOT

ASKED = st.sampled_from(["10.40.10.53", "2001:db8::53", "192.0.2.53"]).map(Address.parse)
NAMED = """
lattice: 1
names: {networks: {staff: [10.40.10.0/25, 10.40.12.0/25]}, services: {web: tcp/443}, hosts: {till: 10.40.10.9}}
zones: {sea: {exposure: public}, office: {exposure: own}}
devices:
  quay:
    speaks: bollard
    interfaces: {wan0: {zone: sea, address: 203.0.113.2/28}, lan0: {zone: office, address: 10.40.10.1/24}}
    permits: [{name: surf, from: office, to: sea, source: SOURCE, service: SERVICE}]
"""


def test_what_an_intent_names_goes_by_that_name_until_nothing_uses_it() -> None:
    def intent(source: str, service: str) -> Device:
        return loads(NAMED.replace("SOURCE", source).replace("SERVICE", service)).device("quay")

    [text] = render_device(intent("staff", "web"))
    assert "Group: staff" in text.text and "Service: web" in text.text and "till" not in text.text
    own = text.text.replace("staff", "crew") + "\nGroup: others\nMembers: 10.9.9.9\n"
    texts = {"bollard.txt": own}
    assert not mended(intent("staff", "web"), texts).mends, "a device's own names stay"
    [change] = mended(intent("till", "tcp/80"), texts).mends
    after = change.files[0].after
    assert "Group: till" in after and "Of: till" in after and "Service: tcp-80" in after
    assert "crew" not in after and "Service: web" not in after, "nothing uses them any more"
    assert "Group: others" in after, "nothing ever used it: it is not ours"


NAMES = st.builds(
    lambda asked, hosts: Settings(resolvers=tuple(asked), hosts=tuple(hosts)),
    st.lists(ASKED, min_size=1, max_size=3, unique=True),
    st.lists(HOSTS, min_size=1, max_size=3, unique_by=lambda each: each.name),
)


@SOME
@given(NAMES, NAMES)
def test_resolvers_and_hosts_are_mended_in_their_order(before: Settings, after: Settings) -> None:
    there, intent = (Device("quay", ("resolv", "hosts"), settings=each) for each in (before, after))
    own = {"resolv.conf": "# kept\noptions rotate\n", "hosts": "::1 localhost\n"}
    texts = {each.file: own[each.file] + each.text for each in render_device(there)}
    changed = {each.file: each.after for one in mended(intent, texts).mends for each in one.files}
    edited = texts | changed
    assert normal(read_device("quay", intent.speaks, edited).device).settings == normal(intent).settings
    assert all(edited[file].startswith(text) for file, text in own.items())


FIREWALL = """
lattice: 1
zones: {inside: {exposure: own}, outside: {exposure: public}}
devices:
  quay:
    speaks: SPEAKS
    interfaces:
      wan0: {zone: outside, address: 203.0.113.2/28}
      lan0: {zone: inside, address: 10.40.10.1/24}
    routes:
      - {to: default, via: 203.0.113.1}
      - {to: 10.50.0.0/16, via: 10.40.10.9}
    translations:
      - {name: one, publish: 203.0.113.3, service: tcp/25, on: 10.40.10.3, facing: outside}
      - {name: two, publish: 203.0.113.4, service: tcp/80, on: 10.40.10.4, facing: outside}
      - {name: three, publish: 203.0.113.5, service: tcp/443, on: 10.40.10.5, facing: outside}
      - {name: rest, to: outside, source: 10.40.10.0/24, source-becomes: interface}
"""


def intended(speaks: str, text: str = FIREWALL) -> Device:
    [device] = loads(text.replace("SPEAKS", speaks)).devices
    return device


def rules(text: str, *names: str) -> str:
    """Take the lines out that name some rules."""
    return "".join(line + "\n" for line in text.splitlines() if not any(f'"{name}"' in line for name in names))


def test_a_new_rule_gets_a_rank_between_those_that_stay() -> None:
    device = intended("tideway")
    [rendered_] = render_device(device)
    there = rules(rendered_.text, "two").replace("\n20 ", "\n25 ").replace("\n30 ", "\n25 ")
    [change] = mended(device, {"quay.tab": there}).mends[0].files
    rows = [line.split() for line in change.after.splitlines() if "entering" in line]
    one, two, three = (int(row[0]) for name in ("one", "two", "three") for row in rows if f'"{name}"' in row)
    assert one < two < three
    assert (one, three) == (10, 25), "what stays keeps its rank"


def test_order_is_mended_by_moving_as_little_as_possible() -> None:
    device = intended("mooring")
    [rendered_] = render_device(device)
    head, *blocks = rendered_.text.split("(translate ")
    first = [each for each in blocks if '"one"' in each]
    last = [each for each in blocks if each not in first]
    swapped = head + "".join(f"(translate {each}" for each in [*last[:2], *first, *last[2:]])
    [mend_] = mended(device, {"chart": swapped}).mends
    plus = [line for line in mend_.change.splitlines() if line.startswith("+") and "(translate" in line]
    minus = [line for line in mend_.change.splitlines() if line.startswith("-") and "(translate" in line]
    assert (len(plus), len(minus)) == (1, 1), "one rule moves, and the others stay"


def test_a_block_with_what_was_not_understood_is_altered_by_handles_or_not_at_all() -> None:
    device = intended("[iproute2, nftables]")
    text = next(each.text for each in render_device(device) if each.dialect == "nftables")
    strange = '\t\tmeta mark 7 counter packets 5 bytes 300 accept comment "ours"'
    lines = rules(text, "three").replace('"two"', f'"two"\n{strange}')
    with pytest.raises(ChangeError, match="which `nft -a list ruleset` prints"):
        mend(device, [("ruleset.nft", lines)])
    numbered = "".join(f"{line} # handle {n}\n" for n, line in enumerate(lines.splitlines()))
    [mend_] = mend(device, [("ruleset.nft", numbered)]).mends
    [added] = mend_.change.splitlines()
    assert added.startswith("insert rule ip lattice arrival handle 11 ") and added.endswith('comment "three"')
    back = [line for line in mend_.undo.splitlines() if line.startswith("add")]
    assert strange.strip() in back[-1] and '"three"' not in mend_.undo


def test_a_device_whose_syntax_knows_no_management_can_be_proven() -> None:
    device = intended("mooring")
    [there] = render_device(device)
    found = verdict(device, read_device("quay", device.speaks, {there.file: there.text}))
    assert (found.same, found.incomplete) == (True, ())
    asked = replace(device, settings=Settings(forwarding4=True))
    assert verdict(asked, as_captured(device)).incomplete == ("no input says whether it forwards IPv4",)
    routed = replace(device, routes=tuple(replace(each, instance="guests") for each in device.routes))
    assert between(device, routed).different, "another table"


MANAGED = (
    FIREWALL
    + """
    management:
      - {name: office, service: tcp/22, source: 10.50.7.0/24}
"""
)
THERE = """
interface lan0
 ip address 10.40.10.254/24
exit
interface wan0
 ip address 203.0.113.12/28
exit
ip route 0.0.0.0/0 203.0.113.1
ip route 10.50.0.0/16 10.40.10.8
ip route 10.99.0.0/16 10.40.10.8
"""


def test_what_could_cut_the_way_of_management_is_held_back_until_it_is_named() -> None:
    device = intended("[frr, nftables]", MANAGED)
    mending = mend(device, [("running.conf", THERE)])
    held = {each.subject: each.reason for each in mending.held}
    assert set(held) == {"address 10.40.10.1/24 on lan0", "route 10.50.0.0/16"}
    [careful] = mending.mends
    # The outside can change, and the route that nobody is managed by can go.
    assert careful.change == (
        "interface wan0\n ip address 203.0.113.2/28\nexit\n!\nno ip route 10.99.0.0/16 10.40.10.8\n!\n"
        "interface wan0\n no ip address 203.0.113.12/28\nexit\n!\n"
        # The kernel drops the second address of a subnet with the first.
        "interface wan0\n ip address 203.0.113.2/28\nexit\n!\n"
    )
    consent = {each.identity for each in mending.held}
    assert consent == {
        "quay/interfaces/address 10.40.10.1/24 on lan0",
        "quay/routes/to 10.50.0.0/16, via 10.40.10.9, interface lan0",
    }
    [bold] = mend(device, [("running.conf", THERE)], consent=consent).mends
    assert bold.change.index("ip route 10.50.0.0/16 10.40.10.9") < bold.change.index("no ip route 10.50.0.0/16")
    assert bold.change.index(" ip address 10.40.10.1/24") < bold.change.index(" no ip address 10.40.10.254/24")


COAST = ROOT / "examples" / "coast"
SWITCH = {
    "vlans.json": """
        [ {"ifname": "port1", "vlans": [ {"vlan": 10, "flags": ["PVID", "Egress Untagged"]}, {"vlan": 30} ] },
          {"ifname": "port3", "vlans": [ {"vlan": 10}, {"vlan": 40} ] },
          {"ifname": "br0", "vlans": [ {"vlan": 10} ] } ]
        """,
    "links.json": json.dumps([
        *({"ifname": f"port{n}", "flags": ["UP"], "mtu": 1500, "master": "br0"} for n in (1, 2, 3)),
        {"ifname": "br0", "flags": ["UP"], "mtu": 1500,
         "linkinfo": {"info_kind": "bridge", "info_data": {"vlan_filtering": 1}}},
        {"ifname": "br0.10", "link": "br0", "flags": ["UP"], "mtu": 1500,
         "linkinfo": {"info_kind": "vlan", "info_data": {"id": 10}},
         "addr_info": [{"family": "inet", "local": "10.43.10.2", "prefixlen": 24}]},
    ]),
}  # fmt: skip


def test_vlans_go_first_and_come_last_and_the_one_of_management_stays(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    captured = tmp_path / "captured" / "yard-switch"
    captured.mkdir(parents=True)
    for name, text in SWITCH.items():
        (captured / name).write_text(text)
    assert main(["mend", str(COAST), str(captured.parent), "--into", str(tmp_path / "out")]) == 1
    out = tmp_path / "out" / "yard-switch"
    gone = sorted((out / "1-bridge.mend").read_text().splitlines())
    assert gone == ["vlan delete dev port1 vid 30", "vlan delete dev port3 vid 40"]
    assert (out / "2-bridge.mend").read_text() == "vlan add dev port2 vid 20 pvid untagged\nvlan add dev port3 vid 20\n"
    assert (out / "1-bridge.undo").read_text() == "vlan add dev port1 vid 30\nvlan add dev port3 vid 40\n"
    assert main(["mend", str(COAST), str(captured.parent), "--undo"]) == 1
    undo = capsys.readouterr().out
    assert undo.index("vlan delete dev port2 vid 20") < undo.index("vlan add dev port1 vid 30")
    moved = SWITCH["vlans.json"].replace('"port3"', '"port2"')
    (captured / "vlans.json").write_text(moved)
    assert main(["mend", str(COAST), str(captured.parent)]) == 1
    printed = capsys.readouterr()
    assert "the device is managed over VLAN 10, which port2 carries" in " ".join(printed.err.split())
    assert "port2" not in printed.out


def test_a_policy_that_goes_is_set_to_what_every_system_has() -> None:
    there = "*filter\n:INPUT ACCEPT [0:0]\n:FORWARD DROP [12:720]\n:OUTPUT ACCEPT [0:0]\n"
    there += "-A FORWARD -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT\n-A FORWARD -i lan0 -j ACCEPT\nCOMMIT\n"
    six = f"# Generated by ip6tables-save\n{there}"
    intent = Device("quay", ("iptables", "ip6tables"))
    mending = mend(intent, {"four": there, "six": six}.items())
    for each in (one.after for mend_ in mending.mends for one in mend_.files):
        assert ":FORWARD ACCEPT [0:0]\n" in each and "DROP" not in each and "lan0" not in each
    assert len(mending.mends) == 2


def test_a_change_says_what_was_not_compared(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    intent = tmp_path / "intent.yaml"
    intent.write_text(
        "lattice: 1\ndevices:\n  quay:\n    speaks: [iproute2, nftables]\n"
        "    interfaces: {wan0: {address: 192.0.2.1/24}}\n"
        "    translations: [{name: out, to: wan0, source-becomes: interface}]\n"
    )
    assert main(["render", str(intent), "--into", str(tmp_path / "there")]) == 0
    (tmp_path / "there/quay/iproute2.batch").unlink()
    capsys.readouterr()
    assert main(["mend", str(intent), str(tmp_path / "there")]) == 1  # nobody knows what it has
    out, err = capsys.readouterr()
    assert out == "Nothing to change in what was compared.\n" and "quay: not compared: interfaces" in err


def test_a_stanza_that_only_says_that_there_is_an_interface_stays() -> None:
    text = (
        "lattice: 1\ndevices:\n  quay:\n    speaks: ifupdown\n    interfaces:\n      lan0: {address: 10.40.10.1/24}\n"
    )
    intent = al.loads(f"{text}      wan0: {{enabled: false}}\n").device("quay")
    captured = "auto lan0\niface lan0 inet static\n    address 10.40.10.1/24\n    mtu 1280\niface wan0 inet manual\n"
    [mend] = al.mend(intent, [("interfaces", captured)]).mends
    assert mend.files[0].after == captured.replace("    mtu 1280\n", "")


def test_what_joins_a_bridge_comes_with_its_vlans_and_leaves_with_them() -> None:
    joined = textwrap.dedent("""\
        lattice: 1
        devices:
          quay:
            speaks: [networkd]
            interfaces:
              lan0: {tagged: [20], untagged: 10}
              lan1: {untagged: 10}
              br0: {bridge: {members: [lan0, lan1], vlans: [10]}, address: 10.40.10.1/24}
    """)
    apart = joined.replace("{tagged: [20], untagged: 10}", "{}").replace("[lan0, lan1]", "[lan1]")
    for one, other in ((joined, apart), (apart, joined)):
        intent, there = (al.loads(each).device("quay") for each in (one, other))
        texts = {each.file: each.text for each in al.render(there)}
        [mend] = al.mend(intent, texts.items()).mends
        assert ("+Bridge=br0" in mend.change, "+VLAN=20" in mend.change) == (
            (True, True) if one is joined else (False, False)
        )
        assert ("-Bridge=br0" in mend.change, "-VLAN=20" in mend.change) == (
            (True, True) if one is apart else (False, False)
        )


LOOPED = """
lattice: 1
devices:
  quay:
    speaks: [{0}]
    interfaces: {{lo: {{loopback: [{1}]}}, wan0: {{address: 203.0.113.2/28}}}}
"""


@pytest.mark.parametrize("speaks", ["ietf-yang", "networkd", "ifupdown", "frr", "iproute2"])
def test_addresses_are_added_in_the_order_of_the_intent(speaks: str) -> None:
    there, quay = (
        loads(LOOPED.format(speaks, each)).device("quay")
        for each in ("10.255.0.9/32", "10.255.0.3/32, 10.255.0.2/32, 10.255.0.1/32")
    )
    mending = mend(quay, [(each.file, each.text) for each in render_device(there)])
    assert not mending.held
    [change] = [each.change for each in mending.mends]
    added = "".join(line for line in change.splitlines() if not line.startswith("-"))
    assert re.findall(r"10\.255\.0\.[123]", added) == ["10.255.0.3", "10.255.0.2", "10.255.0.1"]


def test_beside_what_a_running_system_learned_the_rest_is_mended() -> None:
    quay = load(DEMO / "saltmarsh.yaml").device("quay-edge")
    texts = {path.name: path.read_text() for path in (DEMO / "a-year-later" / "quay-edge").iterdir()}
    learned = {"dst": "default", "gateway": "fe80::9", "dev": "wan0", "protocol": "ra", "metric": 100, "flags": []}
    beside = {**texts, "routes.json": json.dumps([*json.loads(texts["routes.json"]), learned])}
    changes = [
        [each.change for each in mend(quay, given.items()).mends if each.dialect == "iproute2"]
        for given in (texts, beside)
    ]
    assert changes[0] == changes[1] != []


def test_a_rule_for_an_interface_that_nobody_knows_is_taken_out() -> None:
    text = """
        lattice: 1
        devices:
          quay:
            speaks: [ietf-yang, ietf-nat]
            interfaces: {lan0: {address: 10.40.10.1/24}INTERFACES}
            RULES
    """
    rules = "translations: [{to: wan0, source-becomes: {pool: 203.0.113.4/30}}]"
    [intent] = loads(clean(text.replace("INTERFACES", "").replace("RULES", "routes: []"))).devices
    whole = text.replace("INTERFACES", ", wan0: {address: 203.0.113.2/28}").replace("RULES", rules)
    [other] = loads(clean(whole)).devices
    [plain] = [each.text for each in render_device(intent) if each.dialect == "ietf-yang"]
    [strange] = [each.text for each in render_device(other) if each.dialect == "ietf-nat"]
    texts = {"all.json": json.dumps({**json.loads(plain), **json.loads(strange)}, indent=2)}
    assert felt(intent, texts) == [("dynamic translation", ())]
    mending = mended(intent, texts)
    with tempfile.TemporaryDirectory() as place:
        folder = Folder(Path(place), texts)
        for each in mending.mends:
            folder.apply(each.change)
        assert "wan0" not in folder.texts["all.json"]
        assert felt(intent, folder.texts) == []
