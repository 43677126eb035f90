"""Make the captures of the demo: build its devices for real, apply, capture, tamper, capture again.

    sudo .venv/bin/python scripts/capture_demo.py

Needs root and the programs that `machines` names. The captures are part of the package, so
that the demo itself needs none of this.
"""

from __future__ import annotations

from pathlib import Path

from agile_lattice.dialects import render_device
from agile_lattice.intent.model import Device
from agile_lattice.notation.loading import load
from machines import Machine, run

DEMO = Path(__file__).parent.parent / "src" / "agile_lattice" / "demo"


def tamper_with_quay_edge(machine: Machine) -> None:
    """What happens on a Linux router in a year: an address fixed, a route forgotten, rules edited by hand."""
    space = machine.space
    run("ip", "-n", space, "address", "del", "10.40.10.1/24", "dev", "lan0")
    run("ip", "-n", space, "address", "add", "10.40.10.254/24", "dev", "lan0")
    run("ip", "-n", space, "route", "del", "10.41.0.0/16")
    run("ip", "-n", space, "route", "add", "local", "203.0.113.12", "dev", "wan0")
    run("ip", "-n", space, "link", "set", "pier0", "alias", "causeway (Tom)")
    rules = machine.inside("nft", "list", "table", "ip", "lattice")
    lines = rules.splitlines()
    wider = [line.replace("203.0.113.8/30", "203.0.113.8-203.0.113.12") for line in lines]
    staff = next(index for index, line in enumerate(wider) if '"staff-out"' in line)
    others = next(index for index, line in enumerate(wider) if '"others-out"' in line)
    wider[staff], wider[others] = wider[others], wider[staff]
    machine.inside("nft", "-f", "-", input="delete table ip lattice\n" + "\n".join(wider) + "\n")


def tamper_with_pier_gate(machine: Machine) -> None:
    """And on the other one, whose routing is FRRouting's."""
    machine.vtysh(
        "-c", "configure terminal",
        "-c", "no ip route 0.0.0.0/0 10.40.20.1 200",
        "-c", "ip route 0.0.0.0/0 10.40.20.1 20",
        "-c", "ip route 192.0.2.0/24 10.41.10.7",
        "-c", "interface hall0", "-c", "description Ticket hall, new switch",
    )  # fmt: skip
    rules = machine.inside("nft", "list", "table", "ip", "lattice")
    changed = rules.replace("tcp dport 4433", "tcp dport { 4433, 4434 }")
    machine.inside("nft", "-f", "-", input="delete table ip lattice\n" + changed)


TAMPER = {"quay-edge": tamper_with_quay_edge, "pier-gate": tamper_with_pier_gate}


def write(machine: Machine, device: Device, folder: str) -> None:
    """Capture a device into a folder of the demo."""
    target = DEMO / folder / device.name
    target.mkdir(parents=True, exist_ok=True)
    for name, text in machine.capture(device.speaks, whole=True).items():
        (target / name).write_text(text)


def capture_by_hand() -> None:
    """List the rules that somebody wrote for the router on the island, as a kernel has them."""
    folder = DEMO / "by-hand"
    [device] = load(folder / "island.yaml").devices
    with Machine(device.name, (each.name for each in device.interfaces)) as machine:
        machine.inside("nft", "-f", str(folder / "as-written.nft"))
        (folder / device.name / "ruleset.nft").write_text(machine.inside("nft", "-a", "list", "ruleset"))


def main() -> None:
    """Capture every device of the demo, as applied and as it looks after a year, and the one set up by hand."""
    capture_by_hand()
    for device in load(DEMO / "saltmarsh.yaml").devices:
        with Machine(device.name, (each.name for each in device.interfaces if not each.loopback)) as machine:
            machine.apply(render_device(device))
            machine.settle()
            write(machine, device, "applied")
            TAMPER[device.name](machine)
            machine.settle()
            write(machine, device, "a-year-later")


if __name__ == "__main__":
    main()
