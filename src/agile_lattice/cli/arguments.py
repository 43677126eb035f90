"""The arguments of the command line: every command, its options and their help."""

from __future__ import annotations

from argparse import ArgumentParser, ArgumentTypeError, RawDescriptionHelpFormatter

from agile_lattice import __version__

DESCRIPTION = """\
Keep addresses, routes and translations in one neutral intent; render them for
every device's own syntax; find out how a device differs from the intent."""

EPILOG = """\
in order of use:
  lattice draw intent.yaml network.svg                 devices and their links
  lattice addresses intent.yaml                        what every block and subnet is used for
  lattice calc summary 10.41.0.0/24 10.41.1.0/24       address arithmetic
  lattice check intent.yaml                            mistakes in the design
  lattice render intent.yaml --into rendered           the configuration of every device
  lattice read --speaks frr,nftables frr.conf nat.nft  an intent from a configuration
  lattice diff intent.yaml captures                    how the devices differ from it
  lattice prove intent.yaml captures                   proof for every packet, or an example
  lattice mend intent.yaml captures                    commands that close the gap, and undo
  lattice walk intent.yaml web 192.0.2.7 tcp/443       where a packet goes, and which rule decides
  lattice walk intent.yaml --plan                      test packets for every rule
  lattice report intent.yaml report.html captures      everything on one page
  lattice report intent.yaml comment.md @main          the effect of a change, for a merge request
  lattice dialects matrix                              what each dialect supports
  lattice demo                                         the whole workflow on demo data

exit code: 0 nothing to report, 1 findings or differences, 2 error"""


class _Help(RawDescriptionHelpFormatter):
    """Keeps the text as it is, and a command's name on the line of its help."""

    def __init__(self, prog: str) -> None:
        super().__init__(prog, max_help_position=28)
        self._action_max_length = 14  # the longest name of a command, indented: it is measured too short


def build_parser() -> ArgumentParser:
    """Return the parser of the whole command line."""
    parser = ArgumentParser("lattice", description=DESCRIPTION, epilog=EPILOG, formatter_class=_Help)
    parser.add_argument("--version", action="version", version=f"lattice {__version__}")
    parser.add_argument("--completion", choices=["bash", "zsh", "tcsh"], help="print a completion script for a shell")
    commands = parser.add_subparsers(title="commands", metavar="COMMAND", dest="command")

    def add(name: str, help: str, example: str, formats: tuple[str, ...] = ("json",)) -> ArgumentParser:
        command = commands.add_parser(
            name, help=help, description=help[0].upper() + help[1:] + ".", epilog=f"example:\n  {example}",
            formatter_class=_Help,
        )  # fmt: skip
        if formats:
            command.add_argument(
                "--format", choices=["text", *formats], default="text", help="output format (default: text)"
            )
        return command

    command = add("draw", "draw the network", "lattice draw intent.yaml network.svg", formats=())
    command.add_argument("intent", metavar="INTENT", help="an intent file, or a folder of them")
    command.add_argument("into", metavar="FILE", help="the picture: a .png or an .svg")
    command.add_argument(
        "--rules", metavar="DEVICE", help="draw instead which rules of this device hide packets from which"
    )

    command = add(
        "addresses", "show what every block and subnet is used for", "lattice addresses intent.yaml --run 4",
        formats=("json", "csv"),
    )  # fmt: skip
    command.add_argument("intent", metavar="INTENT", help="an intent file, or a folder of them")
    command.add_argument("--only", metavar="WHICH", help="a block, a zone, or the subnets in a prefix")
    command.add_argument("--run", metavar="N", type=_count, default=1, help="find N spare addresses in a row")
    command.add_argument("--picture", metavar="FILE", help="draw it, as .png or .svg")

    _add_calc(add("calc", "do address arithmetic", "lattice calc split 203.0.113.0/28 /30", formats=()))

    command = add(
        "check", "check an intent against the design rules", "lattice check intent.yaml",
        formats=("json", "sarif", "junit"),
    )  # fmt: skip
    command.add_argument("intent", metavar="INTENT", nargs="?", help="an intent file, or a folder of them")
    command.add_argument("--explain", metavar="SLUG", help="explain a check, with examples")

    command = add("render", "write the configuration of devices", "lattice render intent.yaml --into rendered")
    command.add_argument("intent", metavar="INTENT", help="an intent file, or a folder of them")
    command.add_argument("--device", metavar="NAME", action="append", help="only this device; may be repeated")
    command.add_argument("--into", metavar="FOLDER", help="write files there, a folder for each device; all or none")
    command.add_argument(
        "--units", metavar="FOLDER",
        help="write units of systemd there that load what would be gone after a restart; the texts go to /etc/lattice",
    )  # fmt: skip
    command.add_argument(
        "--prove",
        action="store_true",
        help="read it again and prove that it is the same for every packet, or write nothing",
    )

    command = add(
        "read", "turn the configuration of a device into intent",
        "lattice read --speaks frr,nftables --device quay-edge frr.conf ruleset.nft",
    )  # fmt: skip
    command.add_argument("files", metavar="FILE", nargs="+", help="configurations of one device")
    command.add_argument("--speaks", metavar="DIALECTS", required=True, help="its dialects, separated by commas")
    command.add_argument("--device", metavar="NAME", default="", help="its name, if the files do not say")

    command = add("diff", "compare the configuration of devices with the intent", "lattice diff intent.yaml captures")
    _add_captures(command)
    command.add_argument(
        "--only", choices=["changes-traffic", "may-change-traffic", "description-only", "no-effect"],
        help="show only these differences; the exit code is 1 if there are others, too",
    )  # fmt: skip
    command.add_argument("--picture", metavar="FILE", help="draw devices by sections, as .png or .svg")

    command = add(
        "mend",
        "print the commands that bring devices in line with the intent",
        "lattice mend intent.yaml captures --into changes",
    )
    _add_captures(command)
    command.add_argument("--undo", action="store_true", help="print the commands that undo the change instead")
    command.add_argument("--into", metavar="FOLDER", help="write both there, a folder for each device; all or none")
    command.add_argument(
        "--allow-lockout", metavar="SUBJECT", action="append",
        help="change this although it could lock you out of the device; may be repeated",
    )  # fmt: skip

    command = add(
        "walk",
        "follow packets through the network",
        "lattice walk intent.yaml 192.0.2.77 203.0.113.5 tcp/443 --at quay-edge:wan0",
    )
    command.add_argument("intent", metavar="INTENT", help="an intent file, or a folder of them")
    command.add_argument("source", metavar="SOURCE", nargs="?", help="an address, or a host that the intent names")
    command.add_argument("destination", metavar="DESTINATION", nargs="?", help="likewise")
    command.add_argument("service", metavar="SERVICE", nargs="?", help="protocol and port, such as tcp/443, or icmp")
    command.add_argument("--at", metavar="DEVICE:INTERFACE", help="ingress, if not the link of the source")
    command.add_argument("--picture", metavar="FILE", help="draw it, as .png or .svg: a lane for each device")
    command.add_argument(
        "--flows", metavar="FILE", help="follow a list: a line for each, SOURCE DESTINATION SERVICE [DEVICE:INTERFACE]"
    )
    command.add_argument("--plan", action="store_true", help="list test packets for every rule")
    command.add_argument("--device", metavar="NAME", action="append", help="plan for this device; may be repeated")

    command = add(
        "prove", "prove that devices treat every packet as the intent says", "lattice prove intent.yaml captures"
    )
    _add_captures(command, "; or another intent; or @REVISION, for the intent as it was in git")

    command = add(
        "report", "write a report", "lattice report intent.yaml report.html captures", formats=()
    )  # fmt: skip
    command.add_argument("intent", metavar="INTENT", help="an intent file, or a folder of them")
    command.add_argument("into", metavar="FILE", help="the page: .html, or .md for the comment of a merge request")
    command.add_argument(
        "captures", metavar="CAPTURE", nargs="*",
        help="a folder with a folder for each device, to be compared; or @REVISION, for what has changed since",
    )  # fmt: skip
    command.set_defaults(device=None)

    _add_dialects(
        add("dialects", "list dialects and what each supports, and try a new one", "lattice dialects", formats=())
    )

    command = add("demo", "run the whole workflow on demo data", "lattice demo", formats=())
    command.add_argument("--into", metavar="FOLDER", help="write the demo files there instead, to experiment with")
    return parser


def _add_captures(command: ArgumentParser, more: str = "") -> None:
    command.add_argument("intent", metavar="INTENT", help="an intent file, or a folder of them")
    command.add_argument(
        "captures", metavar="CAPTURE", nargs="+",
        help=f"a folder with a folder for each device; or, with --device, files or a folder of files{more}",
    )  # fmt: skip
    command.add_argument("--device", metavar="NAME", help="the device that the captures are of")


def _count(text: str) -> int:
    if not (text.isascii() and text.isdigit() and int(text) > 0):
        raise ArgumentTypeError(f"{text!r} is not a positive number")
    return int(text)


def _add_dialects(command: ArgumentParser) -> None:
    actions = command.add_subparsers(title="actions", metavar="ACTION", dest="action")

    def act(name: str, help: str) -> ArgumentParser:
        action = actions.add_parser(name, help=help, description=help[0].upper() + help[1:] + ".")
        action.add_argument("--format", choices=["text", "json"], default="text", help="output format (default: text)")
        return action

    act("list", "list the dialects (this is what happens without an action)")
    act("matrix", "show what each supports, by trying")
    action = act("try", "read a sample with a dialect file, write it again, and show what was understood")
    action.add_argument("file", metavar="FILE", help="the dialect: a .toml file")
    action.add_argument("sample", metavar="SAMPLE", help="a configuration of the device")
    command.set_defaults(action="list", format="text")


def _add_calc(command: ArgumentParser) -> None:
    questions = command.add_subparsers(title="questions", metavar="QUESTION", dest="question", required=True)

    def ask(name: str, help: str) -> ArgumentParser:
        question = questions.add_parser(name, help=help, description=help[0].upper() + help[1:] + ".")
        question.add_argument(
            "--format", choices=["text", "json"], default="text", help="output format (default: text)"
        )
        return question

    question = ask("mask", "turn a prefix length, a netmask or a wildcard into the others")
    question.add_argument("mask", metavar="MASK", help="such as /20, 255.255.240.0 or 0.0.15.255")
    question = ask("subnet", "give the bounds of a subnet")
    question.add_argument(
        "prefix", metavar="PREFIX", nargs="+", help="such as 10.40.10.77/20, or the address and its netmask"
    )
    question = ask("summary", "find the smallest summary, and what it covers beyond the prefixes")
    question.add_argument("prefixes", metavar="PREFIX", nargs="+", help="the prefixes to summarise")
    question = ask("split", "split a subnet into parts")
    question.add_argument("prefix", metavar="PREFIX", help="the prefix to split")
    question.add_argument("into", metavar="LENGTH", help="prefix length of the parts, such as /26")
    question = ask("pool", "compute how many hosts and connections a pool can serve")
    question.add_argument("addresses", metavar="ADDRESSES", help="an address, a prefix, or first-last")
    question.add_argument("--hosts", metavar="N", type=_count, help="how many internal hosts use it at a time")
