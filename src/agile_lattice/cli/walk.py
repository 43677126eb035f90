"""`lattice walk`: packets followed through the network, stage by stage; one, a list of them, or a plan for testing."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from pathlib import Path

from agile_lattice.behaviour.flow_parsing import Sent, packet_of
from agile_lattice.behaviour.probing import ProbePlan, plan_probes
from agile_lattice.behaviour.topology import Topology
from agile_lattice.behaviour.walking import Walk, walk
from agile_lattice.cli.captures import captured_texts
from agile_lattice.cli.options import NOT_CAPTURED, add_assume, add_intent
from agile_lattice.cli.output import exit_code, print_json, write_picture
from agile_lattice.compare.beside import Beside, followed_beside
from agile_lattice.dialects import read_device
from agile_lattice.dialects.assuming import assuming
from agile_lattice.dialects.registry import catalogue_beside
from agile_lattice.intent.model import Network
from agile_lattice.intent.places import Place
from agile_lattice.notation.errors import fail
from agile_lattice.notation.loading import load
from agile_lattice.notation.located import read_text
from agile_lattice.notation.lookup import chosen_devices
from agile_lattice.show.flows import show_flows
from agile_lattice.show.probing import show_plan
from agile_lattice.show.terminal import console
from agile_lattice.show.walking import show_both, show_walk

EXAMPLE = "lattice walk intent.yaml 192.0.2.77 203.0.113.5 tcp/443 --at quay-edge:wan0"
FORMATS: tuple[str, ...] = ("json",)
DOCUMENTS = {"": Walk, "--flows": list[Walk], "--plan": ProbePlan, "--captured": Beside}


def add_arguments(command: ArgumentParser) -> None:
    """Add what the command takes."""
    add_intent(command)
    command.add_argument("source", metavar="SOURCE", nargs="?", help="an address, or a host that the intent names")
    command.add_argument("destination", metavar="DESTINATION", nargs="?", help="likewise")
    command.add_argument("service", metavar="SERVICE", nargs="?", help="protocol and port, such as tcp/443, or icmp")
    command.add_argument(
        "--at", metavar="DEVICE:INTERFACE", help="ingress, if not the link of the source, nor a device itself"
    )
    command.add_argument(
        "--captured", metavar="CAPTURE", nargs="+",
        help="follow it on devices as they were captured, too: a folder, an archive, or, with --device, files",
    )  # fmt: skip
    add_assume(command)
    command.add_argument("--picture", metavar="FILE", help="draw it, as .png or .svg: a lane for each device")
    command.add_argument(
        "--flows", metavar="FILE", help="follow a list: a line for each, SOURCE DESTINATION SERVICE [DEVICE:INTERFACE]"
    )
    command.add_argument("--plan", action="store_true", help="list test packets for every rule")
    command.add_argument(
        "--device",
        metavar="NAME",
        action="append",
        help="plan for this device; may be repeated; or whose captures they are",
    )


def run(arguments: Namespace) -> int:
    """Follow the packets; 1 if one stops on its way, or the reply to it, or a rule has no packet to test it with."""
    network = load(arguments.intent)
    if arguments.assume and not arguments.captured:
        raise fail(Place(), NOT_CAPTURED, "Give --captured besides, or leave it out.")
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
    if arguments.captured:
        return _beside(network, sent, arguments)
    found = walk(Topology(network), sent.header, sent.device, sent.arrives)
    if arguments.picture:
        from agile_lattice.show.walk_drawing import walk_figure

        write_picture(walk_figure(found), Path(arguments.picture))
    if arguments.format == "json":
        print_json(found)
    else:
        show_walk(console(), found)
    return 0 if found.succeeds else 1


def _beside(network: Network, sent: Sent, arguments: Namespace) -> int:
    """Follow a packet by the intent and by captures; 0 if it gets there in the same way on both."""
    catalogue = catalogue_beside(Path(arguments.intent))
    given = Namespace(intent=arguments.intent, captures=arguments.captured, device=(arguments.device or [None])[0])
    captures = {
        device.name: assuming(
            read_device(device.name, device.speaks, texts, catalogue), tuple(arguments.assume), catalogue
        )
        for device, texts in captured_texts(network.devices, given)
    }
    found = followed_beside(network, captures, sent)
    if arguments.format == "json":
        print_json(found)
    else:
        show_both(console(), found)
    return exit_code([found])


def _plan(network: Network, arguments: Namespace) -> int:
    plan = plan_probes(network, chosen_devices(network.devices, arguments.device))
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
    return 0 if all(each.succeeds for each in found) else 1


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
