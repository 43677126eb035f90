"""Pictures: nothing overlaps, nothing is left out silently, and what is drawn is what is known."""

from __future__ import annotations

from pathlib import Path

from matplotlib.figure import Figure
from msgspec.structs import replace

import agile_lattice as al
from agile_lattice.behaviour.shadowing import ordered, taking
from agile_lattice.cli.main import main
from agile_lattice.intent.model import Network
from agile_lattice.show.layout import CARD_WIDTH, links_of, placed
from agile_lattice.show.rule_map import draw_rules
from agile_lattice.show.sections import draw_sections
from where import DEMO, ROOT

INTENT = str(DEMO / "saltmarsh.yaml")


def test_a_network_is_drawn_and_nothing_falls_together(tmp_path: Path) -> None:
    coast = al.load(str(ROOT / "examples" / "coast"))
    for network in (al.load(INTENT), coast, _sites(40), _bus(40)):
        heights = {each.name: 1.0 + len(each.interfaces) / 10 for each in network.devices}
        layout = placed(network, heights)
        assert [card.device.name for card in sorted(layout.cards, key=lambda card: card.device.name)] == sorted(
            each.name for each in network.devices
        )
        boxes = [(card.x, card.y, card.x + CARD_WIDTH, card.y + card.height) for card in layout.cards]
        for at, (left, top, right, bottom) in enumerate(boxes):
            assert left >= 0 and right <= layout.width and top >= 0 and bottom <= layout.height
            for other in boxes[:at]:
                assert left >= other[2] or other[0] >= right or top >= other[3] or other[1] >= bottom
        rows = [bar.y for bar in layout.bars]
        assert len(rows) == len(set(rows)), "bars have a line each"
        for bar in layout.bars:
            assert len(bar.drops) == len(bar.devices)
            for x, edge in [
                *bar.drops,
                *([bar.joined] if bar.joined else []),
            ]:  # no line passes a card, or falls together with another
                low, high = sorted((bar.y, edge))
                for left, top, right, bottom in boxes:
                    assert not (left < x < right and top < high - 1e-9 and low + 1e-9 < bottom)
        hanging = [name for bar in layout.bars for name in bar.devices]
        assert sorted(hanging) == sorted(name for link in links_of(network) for name in link.devices)
        drops = [(x, *sorted((bar.y, edge))) for bar in layout.bars for x, edge in bar.drops]
        drops += [(bar.joined[0], bar.joined[1], bar.y) for bar in layout.bars if bar.joined]
        for at, (x, low, high) in enumerate(drops):
            assert all(x != other[0] or high <= other[1] or other[2] <= low for other in drops[:at])
    for name, begins in (("net.png", b"\x89PNG"), ("net.svg", b"<?xml")):
        assert main(["draw", INTENT, str(tmp_path / name)]) == 0
        assert (tmp_path / name).read_bytes().startswith(begins)
    assert main(["draw", INTENT, str(tmp_path / "net.gif")]) == 2 and not (tmp_path / "net.gif").exists()


def test_it_is_drawn_which_rules_take_packets_from_which(tmp_path: Path) -> None:
    network = al.load(str(DEMO / "draft.yaml"))
    found = {
        (each.members[one.earlier].owner.name, each.members[one.later].owner.name, one.all)
        for each in ordered([network.devices[0]])
        for one in taking(each)
    }
    assert found == {
        ("publish-shop", "publish-old-shop", True),
        ("tunnel-untouched", "everyone-out", False),
        ("tunnel-untouched", "crew-out", False),
        ("everyone-out", "crew-out", True),
    }
    picture = tmp_path / "rules.png"
    assert main(["draw", str(DEMO / "draft.yaml"), str(picture), "--rules", "bay-edge"]) == 0
    assert picture.read_bytes().startswith(b"\x89PNG")


def test_a_long_list_is_drawn_as_far_as_its_rules_take_from_one_another() -> None:
    lines = [f"      - {{name: n{n}, to: w, source: 10.{n}.0.0/16, source-becomes: interface}}" for n in range(60)]
    lines += ["      - {name: again, to: w, source: 10.7.0.0/16, source-becomes: interface}"]
    head = "lattice: 1\ndevices:\n  q:\n    speaks: nftables\n    interfaces: {w: {address: 192.0.2.2/30}}\n"
    network = al.loads("\n".join([head + "    translations:", *lines]))
    [rules] = ordered(network.devices)
    axes = Figure().add_subplot()
    draw_rules(axes, rules)
    words = [text.get_text() for text in axes.texts]
    assert {"n7", "again"} < {*words} and "n8" not in words
    assert any("59 rules that take and lose nothing are left out" in each for each in words)
    network = al.loads("\n".join([head + "    translations:", *lines, "      - {to: w, source-becomes: interface}"]))
    [rules] = ordered(network.devices)
    draw_rules(axes, rules)
    assert any("the first 40 rules that take or lose any, of 62 in all" in each.get_text() for each in axes.texts)


def test_devices_are_drawn_by_sections(tmp_path: Path) -> None:
    network = al.load(INTENT)
    captured = [
        (each, [(file.name, file.read_text()) for file in sorted((DEMO / "a-year-later" / each.name).iterdir())])
        for each in network.devices
    ]
    compared = [al.diff(each, al.read(each.name, each.speaks, texts)) for each, texts in captured]
    axes = Figure().add_subplot()
    draw_sections(axes, compared)
    numbers = sum(int(text.get_text()) for text in axes.texts if text.get_text().isdigit())
    assert numbers == sum(len(each.differences) for each in compared) > 5
    assert {"quay-edge", "pier-gate", "interfaces", "routes", "translations"} < {text.get_text() for text in axes.texts}
    # Of many that look the same one is named; what has most in common has a row, the rest of them the last.
    alike = [replace(each, device=f"{each.device}-{at}") for at in range(100) for each in compared]
    odd = [replace(compared[0], device=f"odd-{at}", differences=compared[0].differences * at) for at in range(2, 90)]
    for many, rows, label in ((alike, 2, "quay-edge-0 and 99 more"), ([*alike, *odd], 60, "31 others")):
        axes = Figure().add_subplot()
        draw_sections(axes, many)
        names = [text.get_text() for text in axes.texts if text.get_horizontalalignment() == "right"]
        assert len(names) == rows and label in names
    picture = tmp_path / "sections.svg"
    assert main(["diff", INTENT, str(DEMO / "a-year-later"), "--picture", str(picture)]) == 1
    assert picture.read_bytes().startswith(b"<?xml")


def _sites(count: int) -> Network:
    """A hub, sites on it, and a switch behind every fourth."""
    hub = ", ".join(f"s{n}: {{address: 10.0.{n}.0/31}}" for n in range(count * 3 // 4))
    lines = [f"  hub: {{speaks: frr, interfaces: {{up: {{zone: sea, address: 192.0.2.2/29}}, {hub}}}}}"]
    for n in range(count * 3 // 4):
        lines.append(
            f"  site{n}: {{speaks: frr, interfaces: {{a: {{address: 10.0.{n}.1/31}}, b: {{address: 10.1.{n}.1/24}}}}}}"
        )
        if n % 4 == 0:
            lines.append(f"  switch{n}: {{speaks: frr, interfaces: {{b: {{address: 10.1.{n}.2/24}}}}}}")
    return al.loads("lattice: 1\nzones: {sea: {exposure: public}}\ndevices:\n" + "\n".join(lines))


def _bus(count: int) -> Network:
    """Devices that all are on one provider's subnet."""
    lines = [
        f"  d{n}: {{speaks: frr, interfaces: {{up: {{zone: sea, address: 192.0.2.{n + 2}/24}}}}}}" for n in range(count)
    ]
    return al.loads("lattice: 1\nzones: {sea: {exposure: public}}\ndevices:\n" + "\n".join(lines))
