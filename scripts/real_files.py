"""How much of real configurations is understood: those that come with the source packages of the programs themselves.

    python scripts/real_files.py [FOLDER]

fetches the source packages with apt into a folder (none of their files becomes part of this project), reads every
configuration in them, and writes `docs/coverage.md`: for each dialect the share of statements in scope that are
understood, counted by statement and by shape, and the most frequent ones that are not. A shape is a statement with its
names and values taken out. A text that the program itself refuses is left out, where the program runs here: many of
these files are tests of mistakes. In scope are addresses, VLANs, bridges, static routes, forwarding, reverse path
filtering, resolvers and rules; a rule of which only the packets that it may be about are known is understood. What a
line outside it says (routing protocols, queues, wireless) is not counted.
"""

from __future__ import annotations

import re
import shutil
import subprocess
import sys
import tarfile
import tempfile
from collections import Counter, defaultdict
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import msgspec

from agile_lattice.dialects.dialect import Dialect, Form
from agile_lattice.dialects.errors import CaptureError
from agile_lattice.dialects.reading.expanding import expanded
from agile_lattice.dialects.reading.texts import best_reading, read_statements
from agile_lattice.dialects.reading.understanding import Trace
from agile_lattice.dialects.registry import BUILT_IN
from agile_lattice.dialects.surfaces import Statement

PAGE = Path(__file__).parent.parent / "docs" / "coverage.md"
SHOWN = 12  # shapes that are not understood, of each dialect


class Source(msgspec.Struct, frozen=True):
    """Where configurations in a dialect are found, and which of their statements are in scope.

    Attributes:
        package: The source package.
        files: Its configurations, as a glob.
        scope: What a statement in scope looks like, with the statements around it before it, parted by ` > `.
        inside: What holds a configuration in a file of another kind: an expression with a group; empty if none does.
        check: How the program itself checks a configuration in the folder `%`; empty if it does not.
        reads: How the program itself reads all configurations in the folder `%`, and tells which lines it ignores.
        place: Where in that folder it looks for it.
        head: What a capture begins with that the packages leave out.
    """

    dialect: str
    package: str
    files: tuple[str, ...]
    scope: str
    inside: str = ""
    check: tuple[str, ...] = ()
    reads: tuple[str, ...] = ()
    place: str = "text"
    head: str = ""


SOURCES = (
    Source(
        "frr", "frr", ("**/zebra.conf", "**/staticd.conf", "**/frr.conf"),
        r"(no )?(ip|ipv6) (route|forwarding)|hostname|interface \S+( vrf \S+)?$"
        r"|interface .* > ((no )?(ip|ipv6) address|(no )?shutdown|description)|vrf \S+ > (ip|ipv6) route",
    ),
    Source(
        "bird", "bird2", ("**/bird.conf*", "**/*.conf.example*", "**/*.conf"),
        r"protocol (static|device|direct|kernel)\b[^>]*$|router id"
        r"|protocol (static|direct)[^>]*> (route [\d:]+[^:]|ipv4$|ipv6$|disabled)",
        check=("bird", "-p", "-c", "%/text"),
    ),
    Source(
        "iproute2", "iproute2", ("testsuite/tests/ip/**/*.t", "examples/**/*", "man/man8/ip-*.8"),
        r"(a|addr|address|r|ro|route) (add|replace|append)\b"
        r"|(l|link) (set .*(up|down|mtu|master)|add .* type (vlan|bridge))\b",
        r"(?m)(?:^|[\s\"`])(?:\$IP|ip) "
        r"((?:-[46] )?(?:addr|address|route|link) (?:add|replace|append|set|change) [^\n\"`;|&\\]+)",
    ),
    Source(
        "netplan", "netplan.io", ("examples/*.yaml", "tests/generator/*.py"),
        r"network > (ethernets|bridges|vlans)( > [^>]+)?( > "
        r"(addresses|routes|nameservers|mtu|dhcp[46]|gateway[46]|id|link|interfaces|match|set-name|accept-ra)\b.*)?$",
        r"(?s)'''(network:.*?)'''",
        check=("netplan", "generate", "--root-dir", "%"), place="etc/netplan/text.yaml",
    ),
    Source(
        "networkd", "systemd", ("**/*.network", "**/*.netdev"),
        r"\S+ > (Match Name=|NetDev Kind=(vlan|bridge)$|VLAN Id=|Link MTUBytes=|Bridge (VLANFil|DefaultP)|BridgeVLAN"
        r"|Network (Address|Gateway|DNS|VLAN|Bridge|DHCP|IPForward|IPv6AcceptRA)=|Address( > Address=.*)?$"
        r"|Route( > (Destination|Gateway|Metric|Type|GatewayOnLink)=.*)?$)",
        reads=("unshare", "-mn", "sh", "-c", "mount --bind % /etc/systemd/network; mkdir -p /run/systemd/netif/links; "
               "SYSTEMD_LOG_TARGET=console timeout 20 /lib/systemd/systemd-networkd"),
    ),
    Source(
        "ifupdown", "ifupdown", ("tests/linux/*", "examples/*", "debian/**/*interfaces*"),
        r"(auto|allow-\w+) [\w. :-]+$|iface \S+ inet6? (static|dhcp|manual|auto|loopback)$"
        r"|iface \S+ inet6? (static|dhcp|manual|auto|loopback) > (address|netmask|gateway|mtu|vlan|up ip|post-up ip)",
        check=("ifup", "--no-act", "-a", "-i", "%/text"),
    ),
    Source("ietf-yang", "libyang2", ("tools/lint/examples/data*.xml",), r"ietf-(interfaces|routing):.*"),
    *(
        Source(
            dialect, "iptables", ("iptables/tests/shell/testcases/**/*",), r"(\*\S+ > )?-A ",
            r"(?s)((?:^|\n)\*(?:nat|filter)\n.*?\nCOMMIT)",
            check=("unshare", "--net", f"{dialect}-restore", "--test", "%/text"), head=f"# {dialect}-save\n",
        )
        for dialect in ("iptables", "ip6tables")
    ),
)  # fmt: skip


def main() -> None:
    folder = Path(sys.argv[1] if len(sys.argv) > 1 else "/tmp/lattice-coverage")
    folder.mkdir(parents=True, exist_ok=True)
    parts = [__doc__.partition("\n")[0].strip('" ')]
    rows, details = [], []
    for source in SOURCES:
        root = fetched(folder, source.package)
        counted = Counted(BUILT_IN.dialect(source.dialect))
        for file, text in without_ignored(source, list(texts(root, source))):
            if refused(source, text):
                counted.refused += 1
            else:
                counted.take(text, file, re.compile(source.scope))
        rows.append(counted.row(source.package))
        details.append(counted.details())
        print(rows[-1], flush=True)
    PAGE.write_text(HEAD.format(what=parts[0]) + "".join(rows) + "".join(details))


HEAD = """\
# Coverage

{what}
`make coverage` fetches them with apt and writes this page; none of their files is part of this project. In scope are
addresses, VLANs, bridges, static routes, forwarding, reverse path filtering, resolvers and rules; a rule of which only
the packets that it may be about are known is understood. A shape is a statement with
its names and values taken out, so that a file that says one thing a thousand times counts once; it is understood if
most statements of it are. Many of these files are tests of odd corners; those that the program itself refuses (netplan,
bird, ifup, iptables-restore), and lines that it says it ignores (systemd-networkd), are left out.

| dialect | source package | configurations | refused | statements in scope | understood | shapes | understood |
|---|---|---|---|---|---|---|---|
"""


def fetched(folder: Path, package: str) -> Path:
    """Fetch a source package, unpacked; packages that are there stay."""
    root = folder / package
    if not root.exists():
        ours = folder / "apt"
        for each in ("lists/partial", "parts"):
            (ours / each).mkdir(parents=True, exist_ok=True)
        listed = Path("/etc/apt/sources.list.d/debian.sources").read_text()
        (ours / "parts" / "source.sources").write_text(listed.replace("Types: deb\n", "Types: deb-src\n"))
        options = [f"Dir::Etc::sourceparts={ours / 'parts'}", "Dir::Etc::sourcelist=/dev/null",
                   f"Dir::State::lists={ours / 'lists'}", "APT::Sandbox::User=root"]  # fmt: skip
        apt = ["apt-get", "-qq", *(word for each in options for word in ("-o", each))]
        if not any((ours / "lists").glob("*Sources*")):
            subprocess.run([*apt, "update"], check=True)
        subprocess.run([*apt, "source", "--download-only", package], check=True, cwd=ours, capture_output=True)
        root.mkdir()
        for archive in sorted(ours.glob(f"{package}_*.tar.*"), key=lambda each: "debian" in each.name):
            with tarfile.open(archive) as tar:
                tar.extractall(root, filter="data")
    return root


def texts(root: Path, source: Source) -> Iterator[tuple[str, str]]:
    """Yield the configurations of a package: name and text."""
    for pattern in source.files:
        for path in sorted(root.glob(f"**/{pattern}")):
            if path.is_file():
                text = path.read_text(errors="replace")
                if not source.inside:
                    yield path.name, text
                elif source.dialect == "iproute2":
                    yield path.name, "\n".join(re.findall(source.inside, text))
                else:
                    yield from ((path.name, source.head + each) for each in re.findall(source.inside, text))


def without_ignored(source: Source, texts: list[tuple[str, str]]) -> Iterator[tuple[str, str]]:
    """Yield configurations without the lines that the program itself says it ignores, if it is here."""
    ignored = defaultdict[int, set[int]](set)
    useless = set[int]()
    if source.reads and Path(source.reads[-1].split()[-1]).exists():
        with tempfile.TemporaryDirectory() as folder:
            for number, (file, text) in enumerate(texts):
                Path(folder, f"{number}-{file}").write_text(text)
            Path(folder).chmod(0o755)
            command = [each.replace("%", folder) for each in source.reads]
            said = subprocess.run(command, capture_output=True, check=False, text=True, errors="replace").stderr
        for number, line in re.findall(r"/(\d+)-[^/\s:]+:(\d+): .*ignoring", said):
            ignored[int(number)].add(int(line))
        useless = {int(number) for number in re.findall(r'/(\d+)-[^/\s]+", ignoring', said)}
    for number, (file, text) in enumerate(texts):
        if number in useless:
            continue
        lines = text.splitlines()
        yield file, "\n".join("" if line in ignored[number] else each for line, each in enumerate(lines, 1)) + "\n"


def refused(source: Source, text: str) -> bool:
    """Ask the program itself whether it takes a configuration, if it is here."""
    if not source.check or shutil.which(source.check[0]) is None:
        return False
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, source.place)
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text)
        path.chmod(0o600)
        command = [each.replace("%", folder) for each in source.check]
        return bool(subprocess.run(command, capture_output=True, check=False, timeout=60).returncode)


class Counted:
    """How much of configurations in one dialect is understood."""

    def __init__(self, dialect: Dialect) -> None:
        self.dialect = dialect
        self.files = self.refused = 0
        self.known: Counter[str] = Counter()
        self.unknown: Counter[str] = Counter()
        self.examples: dict[str, str] = {}

    def take(self, text: str, file: str, scope: re.Pattern[str]) -> None:
        """Count the statements of a text; of one of which nothing can be understood, all as not understood."""
        trace: Trace = {}
        beside = Counter[int]()  # statements of a line
        left = defaultdict[int, set[str]](set)
        parsed = self.parsed(text, file)
        if parsed is None:
            return
        form, statements = parsed
        try:
            reading = best_reading([self.dialect], text, file)
            form = next(each for each in self.dialect.forms if each.name == reading.form)
            statements = expanded(form.surface.parse(text, file), form.expand)
            read_statements(self.dialect, form, statements, file, trace)
            for each in reading.leftovers:
                if not each.in_program or each.unread:
                    left[each.place.line].add(each.text)
            beside = Counter(each.line for _, each in flat(statements, ""))
        except CaptureError:
            pass
        self.files += 1
        for path, statement in flat(statements, ""):
            if scope.match(path):
                what = shape(path)
                here = left.get(statement.line, ())
                over = statement.text in here or (here and beside[statement.line] == 1)
                taken = id(statement) in trace and not over
                (self.known if taken else self.unknown)[what] += 1
                self.examples.setdefault(what, path)

    def parsed(self, text: str, file: str) -> tuple[Form, list[Statement]] | None:
        """Return the first form whose shape a text has, and its statements."""
        for form in self.dialect.forms:
            with suppress(CaptureError):
                return form, form.surface.parse(text, file)
        return None

    def row(self, package: str) -> str:
        """Return the row of the table."""
        known, every = self.known.total(), self.known.total() + self.unknown.total()
        shapes = {*self.known, *self.unknown}
        right = [each for each in shapes if self.known[each] > self.unknown[each]]
        return (
            f"| {self.dialect.name} | {package} | {self.files} | {self.refused} | {every} "
            f"| {known / max(every, 1):.0%} | {len(shapes)} | {len(right) / max(len(shapes), 1):.0%} |\n"
        )

    def details(self) -> str:
        """Return the most frequent shapes that are not understood, as a section."""
        lines = [f"| {count} | `{self.examples[what].replace('|', chr(92) + '|')[:110]}` |\n"
                 for what, count in self.unknown.most_common(SHOWN)]  # fmt: skip
        return f"\n## {self.dialect.name}: what is not understood\n\n| times | for example |\n|---|---|\n" + "".join(
            lines
        )


def flat(statements: list[Statement], around: str) -> Iterator[tuple[str, Statement]]:
    """Yield statements with all that stands around each, in words."""
    for each in statements:
        path = f"{around}{each.text}"
        yield path, each
        yield from flat(each.children or [], f"{path} > ")


def shape(path: str) -> str:
    """Return a statement without its names and values."""
    path = re.sub(r"^\S+\.(network|netdev) >", r"UNIT.\1 >", path)
    path = re.sub(r"\b[0-9a-fA-F]*:[0-9a-fA-F:.]+(/\d+)?", "A", path)
    path = re.sub(r"\b\d+\.\d+\.\d+\.\d+(/\d+)?", "A", path)
    path = re.sub(r'"[^"]*"', "Q", path)
    path = re.sub(r"\b[a-zA-Z_.@-]*\d[\w.@-]*", "N", path)
    return re.sub(r"(description|hostname|interface|Name=|vrf|dev|alias) ?[\w.@$*-]+", r"\1 N", path)


if __name__ == "__main__":
    main()
