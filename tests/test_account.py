"""The account of facts and statements: each arrives, is refused, or is left over with its line."""

from __future__ import annotations

import textwrap
from pathlib import Path

import pytest

import agile_lattice as al
from agile_lattice.cli.main import main
from agile_lattice.dialects.assembly import Capture
from agile_lattice.dialects.registry import BUILT_IN, Catalogue
from agile_lattice.dialects.trying import try_sample
from changes import EDITED

OWN = """dialect = "mine"
title = "A syntax of one's own"
{semantics}
[types]
side = {{is = "word", set = true}}
passing = {{words = {{let = "pass"}}}}
[[forms]]
name = "configuration"
file = "mine.conf"
carries = ["interfaces", "routes", "translations", "permits"]
syntax = {{kind = "{surface}"}}
statements = '''
{statements}
'''
"""
PORT = "port <interface:word>  => interface\n  ip <address:prefix4>  => address\n"
# What each loses if nobody keeps the account: semantics, statements, a text, and what has to be left over.
LOST = {
    "one-to-one, where rules have an order": (
        "", PORT + "map <external:host4> onto <internal:host4> at <facing:side>  => static-nat",
        "port lan0\n ip 10.40.10.1/24\nmap 203.0.113.5 onto 10.40.10.5 at lan0\n", [3]),
    "a zone, where rules name interfaces": (
        "", PORT + "  zone <zone:word>  => zone", "port lan0\n ip 10.40.10.1/24\n zone inner\n", [3]),
    "a VLAN on nothing": (
        "", PORT + "  vlan <vlan:number>", "port lan0\n ip 10.40.10.1/24\n vlan 7\n", [3]),
    "a chain that no pass follows": (
        "", PORT + "chain <chain:word>  => chain", "port lan0\n ip 10.40.10.1/24\nchain a\n", [3]),
    "another value of what holds one": (
        "", PORT + "  mtu <mtu:number>", "port lan0\n ip 10.40.10.1/24\n mtu 1400\n mtu 1500\n", [4]),
    "what stands in something ignored": (
        "", PORT + "note <_:word>  => ignored", "port lan0\n ip 10.40.10.1/24\nnote x\n mtu 1400\n", [3, 4]),
    "what is passed over": (
        "", PORT + "  dns <_:word>  => passed-over about=nothing", "port lan0\n ip 10.40.10.1/24\n dns a\n", [3]),
    "a part that is passed over": (
        "", PORT + "way <to:prefix4> <via:address4> [tag <?:number>]  => route about=nothing",
        "port lan0\n ip 10.40.10.1/24\nway 10.9.0.0/16 10.40.10.9 tag 7\n", [3]),
}  # fmt: skip


def read(tmp_path: Path, semantics: str, statements: str, text: str, surface: str = "indent") -> Capture:
    (tmp_path / "mine.toml").write_text(OWN.format(semantics=semantics, statements=statements, surface=surface))
    return al.read("edge", ["mine"], {"mine.conf": text}, Catalogue(tmp_path))


@pytest.mark.parametrize("what", LOST)
def test_no_fact_ends_nowhere(what: str, tmp_path: Path) -> None:
    semantics, statements, text, lines = LOST[what]
    assert [each.place.line for each in read(tmp_path, semantics, statements, text).leftovers] == lines


def test_every_value_of_a_set_is_kept(tmp_path: Path) -> None:
    service = "service <name:word>  => service\n  <protocol:carried>\n  ports <ports:ports>"
    types = 'groups = "apart"\n'
    statements = PORT + service
    text = "port lan0\n ip 10.40.10.1/24\nservice web\n tcp\n ports 80\n ports 443\n"
    (tmp_path / "mine.toml").write_text(
        OWN.format(semantics=f"[semantics]\n{types}", statements=statements, surface="indent").replace(
            "[types]\n", '[types]\ncarried = {words = {tcp = "tcp", udp = "udp"}}\n'
        )
    )
    found = al.read("edge", ["mine"], {"mine.conf": text}, Catalogue(tmp_path))
    assert found.leftovers == ()
    assert [str(each.service) for each in found.device.named] == ["tcp/80, tcp/443"] or [
        each.service.ports for each in found.device.named if each.service
    ] == [((80, 80), (443, 443))]


# What a second statement does, as the real program has it: see `tests/test_executing.py` and `test_real.py`.
TWICE = {
    "frr": ("interface lan0\n description a\n description b\n", "interfaces", "description", "b"),
    "iproute2": ("link set dev lan0 up\nlink set dev lan0 down\n", "interfaces", "enabled", False),
    "netplan": (
        "network:\n  version: 2\n  ethernets:\n    lan0:\n      mtu: 1400\n      mtu: 1300\n",
        "interfaces", "mtu", 1300),
    "networkd": ("[Match]\nName=lan0\n\n[Network]\nDHCP=yes\nDHCP=no\n", "interfaces", "learns", ()),
}  # fmt: skip
FILES = {"frr": "frr.conf", "iproute2": "iproute2.batch", "netplan": "a.yaml", "networkd": "10-lan0.network"}


@pytest.mark.parametrize("speaks", TWICE)
def test_what_is_said_again_counts_as_in_the_program(speaks: str) -> None:
    text, section, field, value = TWICE[speaks]
    found = al.read("edge", [speaks], {FILES[speaks]: text})
    assert found.leftovers == ()
    [one] = getattr(found.device, section)
    assert getattr(one, field) == value


def test_what_two_texts_contradict_each_other_in_is_left_over() -> None:
    texts = {"50-a.yaml": "dhcp4: true", "60-b.yaml": "dhcp4: false"}
    written = {name: f"network:\n  version: 2\n  ethernets:\n    lan0:\n      {text}\n" for name, text in texts.items()}
    for order in (sorted(written), sorted(written, reverse=True)):
        found = al.read("edge", ["netplan"], {name: written[name] for name in order})
        assert found.leftovers == () and found.device.interfaces[0].learns == ()
    links = '[{"ifname": "lan0", "flags": ["UP"], "mtu": 1500, "link_type": "ether"}]'
    frr = "interface lan0\n shutdown\n"
    found = al.read("edge", ["iproute2", "frr"], {"links.json": links, "frr.conf": frr})
    assert [each.reason for each in found.leftovers] == ["links.json says otherwise of its enabled"]


READ = {
    "frr": "hostname quay\ninterface lan0\n ip address 10.40.10.1/24\nno ip forwarding\n",
    "ifupdown": "auto lan0\niface lan0 inet static\n  address 10.40.10.1/24\n  gateway 10.40.10.9\n",
}


@pytest.mark.parametrize("speaks", READ)
def test_what_is_read_renders_again_or_it_is_said(
    speaks: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    file = tmp_path / {"frr": "frr.conf", "ifupdown": "interfaces"}[speaks]
    file.write_text(READ[speaks])
    code = main(["read", "--speaks", speaks, "--device", "quay", str(file)])
    said = capsys.readouterr()
    try:
        al.render(al.loads(said.out).device("quay"))
    except al.Refusals as refused:
        assert code == 1 and all(each.field in said.err for each in refused.refusals)
        assert "cannot be written again" in said.err
    else:
        assert code == 0 and "cannot be written again" not in said.err
    assert ("settings" in said.err) == (speaks == "frr")


def test_a_trial_tells_which_field_of_the_intent_each_value_reaches() -> None:
    text = """interface lan0
 description Office
 ip address 10.40.10.1/24
exit
ip route 10.9.0.0/16 10.40.10.9 200
ip route 10.8.0.0/16 10.40.10.9 1
"""
    trial = try_sample(BUILT_IN.dialect("frr"), text, "frr.conf")
    assert {(each.line, each.value): each.at for each in trial.reached} == {
        (1, "lan0"): "interfaces.lan0", (2, "Office"): "interfaces.lan0.description",
        (3, "10.40.10.1/24"): "interfaces.lan0.address", (5, "10.9.0.0/16"): "routes.10.9.0.0/16",
        (5, "10.40.10.9"): "routes.10.9.0.0/16.via", (5, "200"): "routes.10.9.0.0/16.distance",
        (6, "10.8.0.0/16"): "routes.10.8.0.0/16", (6, "10.40.10.9"): "routes.10.8.0.0/16.via",
        (6, "1"): "",  # which goes without saying
    }  # fmt: skip


@pytest.mark.parametrize(("speaks", "text"), [each[:2] for each in EDITED], ids=[each[0] for each in EDITED])
def test_a_trial_has_a_line_for_each_value_whatever_the_syntax(speaks: str, text: str) -> None:
    sample = textwrap.dedent(text).strip("\n") + "\n"
    trial = try_sample(
        BUILT_IN.dialect(speaks.split()[0]), sample, "20-lan.network" if speaks == "networkd" else "text"
    )
    # What a thing is called always reaches the intent.
    assert all(each.at for each in trial.reached if each.field == "interface" and not trial.capture.leftovers)
