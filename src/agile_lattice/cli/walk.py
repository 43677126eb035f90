"""`lattice walk`: packets followed through the network, stage by stage; one, a list of them, or a plan for testing."""

from __future__ import annotations

from argparse import Namespace
from pathlib import Path

from agile_lattice.behaviour.probing import plan_probes
from agile_lattice.behaviour.topology import Topology
from agile_lattice.behaviour.walking import walk
from agile_lattice.behaviour.wording import Sent, packet_of
from agile_lattice.cli.output import print_json, write_picture
from agile_lattice.intent.model import Network
from agile_lattice.intent.places import Place
from agile_lattice.notation.errors import fail
from agile_lattice.notation.loading import load
from agile_lattice.notation.located import read_text
from agile_lattice.notation.lookup import chosen_devices
from agile_lattice.show.flows import show_flows
from agile_lattice.show.probing import show_plan
from agile_lattice.show.terminal import console
from agile_lattice.show.walking import show_walk


def run(arguments: Namespace) -> int:
    """Follow the packets; 1 if one stops on its way, or a rule has no packet to test it with."""
    network = load(arguments.intent)
    if arguments.plan:
        return _plan(network, arguments)
    if arguments.flows:
        return _flows(network, arguments)
    words = arguments.source, arguments.destination, arguments.service
    if None in words:
        raise fail(
            Place(), "SOURCE, DESTINATION and SERVICE are missing", "Give them, or --flows FILE, or --plan.",
        )  # fmt: skip
    sent = packet_of(network, words, arguments.at)
    found = walk(Topology(network), sent.header, sent.device, sent.arrives)
    if arguments.picture:
        from agile_lattice.show.lanes import walk_figure

        write_picture(walk_figure(found), Path(arguments.picture))
    if arguments.format == "json":
        print_json(found)
    else:
        show_walk(console(), found)
    return 0 if found.arrives else 1


def _plan(network: Network, arguments: Namespace) -> int:
    plan = plan_probes(network, chosen_devices(network, arguments.device))
    if arguments.format == "json":
        print_json(plan)
    else:
        show_plan(console(), plan)
    return 1 if plan.untested else 0


def _flows(network: Network, arguments: Namespace) -> int:
    topology = Topology(network)
    found = [walk(topology, each.header, each.device, each.arrives) for each in _read(network, arguments)]
    if arguments.format == "json":
        print_json(found)
    else:
        show_flows(console(), found)
    return 0 if all(each.arrives for each in found) else 1


def _read(network: Network, arguments: Namespace) -> list[Sent]:
    """Read a list of packets: one a line, in the words of the command line; what is behind a # is a remark."""
    found = []
    for number, line in enumerate(read_text(Path(arguments.flows)).splitlines(), 1):
        words = line.partition("#")[0].split()
        place = Place(arguments.flows, number)
        if len(words) in (3, 4):
            found.append(packet_of(network, (words[0], words[1], words[2]), words[3] if words[3:] else None, place))
        elif words:
            raise fail(
                place, f"{line.strip()!r} is not a packet",
                "Write SOURCE DESTINATION SERVICE, and DEVICE:INTERFACE if it comes in elsewhere.",
            )  # fmt: skip
    return found
