"""Stand-ins of the fictional vendors: what their trials promise, and the whole way on them with OpenSSH."""

from __future__ import annotations

import json
import os
import pty
import select
import shutil
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

import agile_lattice as al
from agile_lattice.dialects.registry import BUILT_IN
from agile_lattice.push.carrying import Load
from agile_lattice.push.trials import put_on_trial
from agile_lattice.standin.commands import VENDORS, Console, Leave
from agile_lattice.standin.device import Refused, Standin
from agile_lattice.transport.errors import TransportError
from agile_lattice.transport.sessions import Answer, Session
from where import DEMO, ROOT

LATTICE = str(Path(sys.executable).with_name("lattice"))
PRACTICE = DEMO / "practice" / "quay.yaml"
SHEETS = [
    f"Gateway: slip-7\n\nWay: 10.{n}.0.0 mask 255.255.0.0\nNext: 10.70.1.9\n\n"
    f"Way: 0.0.0.0 mask 0.0.0.0\nNext: 10.70.1.{n}\n"
    for n in range(1, 5)
]
STEPS = st.lists(
    st.one_of(
        st.tuples(st.just("begin"), st.sampled_from(SHEETS), st.integers(1, 9), st.booleans()),
        st.tuples(st.sampled_from(["confirm", "back", "save", "restart"])),
        st.tuples(st.just("wait"), st.integers(1, 12)),
    ),
    max_size=12,
)


@given(STEPS)
def test_a_device_is_never_left_with_what_nobody_confirmed(steps: list[tuple[object, ...]]) -> None:
    now = [0.0]
    device = Standin("slip-7", "bollard", SHEETS[0], clock=lambda: now[0])
    kept, saved, trial = SHEETS[0], SHEETS[0], ("", 0.0)  # what the model says
    for step in steps:
        if trial[0] and now[0] >= trial[1]:
            trial = ("", 0.0)
        try:
            match step:
                case ("begin", str(text), int(seconds), bool(fresh)):
                    device.begin(text, seconds, device.revision if fresh else "0" * 12)
                    assert fresh and not trial[0]
                    trial = (text, now[0] + seconds)
                case ("wait", int(seconds)):
                    now[0] += seconds
                case (str(word),):
                    getattr(device, word)()
                    assert bool(trial[0]) == (word in ("confirm", "back")) or word == "restart"
                    if word == "confirm":
                        kept = trial[0]
                    saved = kept if word == "save" else saved
                    kept, trial = (saved if word == "restart" else kept), ("", 0.0)
        except Refused:
            allowed = {"begin": not trial[0] and step[-1] is True, "save": not trial[0], "restart": True}
            assert not allowed.get(str(step[0]), bool(trial[0])), step
        if trial[0] and now[0] >= trial[1]:
            trial = ("", 0.0)
        assert (device.running, device.saved, device.on_trial) == (trial[0] or kept, saved, bool(trial[0])), step


@pytest.mark.parametrize("vendor", VENDORS)
def test_every_command_of_a_vendor_is_helped_with_completed_and_asked_of_it(vendor: str) -> None:
    console = Console(Standin("quay", vendor, ""))
    told = console.run("help")
    for each in console.commands:
        assert each.words in told and each.help in told
        begun = each.words[: len(each.words) // 2]
        assert any(each.words.startswith(found) for found in console.completed(begun)), begun
    asked = BUILT_IN.dialect(vendor).running
    lines = [asked.look, *asked.capture.values(), asked.trial.state, asked.trial.revision, asked.trial.confirm,
             asked.trial.back, asked.trial.save,
             asked.trial.begin.replace("%seconds", "9").replace("%revision", "0a1b")]  # fmt: skip
    assert {*asked.observe} == {"translations", "neighbours", "interfaces", "hits"}
    assert all(any(each.read(one.ask) is not None for each in console.commands) for one in asked.observe.values())
    assert all(any(each.read(line) is not None for each in console.commands) for line in lines)
    assert console.takes_text(lines[-1]) and not console.takes_text("help")
    for wrong in ("", "hepl", "  ", asked.look + " all"):
        with pytest.raises(Refused, match="is no command here"):
            console.run(wrong)
    with pytest.raises(Leave):
        console.run(console.commands[-1].words)


def test_a_configuration_that_the_device_cannot_read_is_refused_with_its_line() -> None:
    device = Standin("slip-7", "bollard", SHEETS[0])
    with pytest.raises(Refused, match=r"line 3: Way: 10\.2\.0\.0"):
        device.begin(SHEETS[1].replace("Next: 10.70.1.9", "Nest: 10.70.1.9", 1), 9, device.revision)
    assert device.running == SHEETS[0] and not device.on_trial


def test_a_device_tells_of_no_neighbour_that_it_does_not_miss_and_forgets_old_flows() -> None:
    alone = Console(Standin("slip-7", "bollard", SHEETS[0]))
    assert alone.run("read doorsteps") == "", "a next hop that nobody can reach is not one that is silent"
    [sheet] = al.render(al.load(PRACTICE).device("slip-gate"))
    device = Standin("slip-gate", "bollard", sheet.text)
    console = Console(device)
    for _ in range(1200):
        console.run("knock 10.70.1.9 198.51.100.7 tcp/443")
    flows = list(device.traffic.flows)
    assert len(flows) == len({each.source_port for each in flows}) == 1000


# The whole way.
ssh = pytest.mark.skipif(os.environ.get("CI") != "true" and shutil.which("ssh") is None, reason="needs ssh")


def free_port() -> int:
    with socket.socket() as found:
        found.bind(("127.0.0.1", 0))
        return int(found.getsockname()[1])


class Practice:
    """Stand-ins that run, and their intent."""

    def __init__(self, folder: Path, port: int) -> None:
        self.folder, self.port, self.archive = folder, port, folder / "archive"
        self.intent = folder / "quay.yaml"

    def lattice(self, *words: str, **more: str) -> tuple[int, str]:
        done = subprocess.run(
            [LATTICE, *words],
            cwd=self.folder,
            capture_output=True,
            text=True,
            timeout=90,
            env={**os.environ, "XDG_STATE_HOME": str(self.folder / "state"), "COLUMNS": "200", **more},
        )
        return done.returncode, done.stdout + done.stderr

    def captured(self) -> None:
        code, said = self.lattice("capture", "quay.yaml", "--into", "archive")
        assert code == 0, said

    def client(self, host: str, *words: str) -> list[str]:
        return ["ssh", *words, "-o", "StrictHostKeyChecking=yes", "-o", "UserKnownHostsFile=keys/known_hosts", "-o",
                "GlobalKnownHostsFile=/dev/null", "-o", "IdentitiesOnly=yes", "-i", "keys/practice", "-p",
                str(self.port), f"practice@{host}"]  # fmt: skip

    def told(self, host: str, command: str, text: str = "") -> str:
        done = subprocess.run(
            [*self.client(host), command], cwd=self.folder, input=text, capture_output=True, text=True, timeout=30
        )
        assert done.returncode == 0, done.stderr
        return done.stdout


@contextmanager
def practice(folder: Path, faults: Sequence[str] = (), text: str = "") -> Iterator[Practice]:
    """Start the stand-ins of the example, on a port of their own."""
    port = free_port()
    (folder / "quay.yaml").write_text((text or PRACTICE.read_text()).replace("port: 2270", f"port: {port}"))
    words = [word for each in faults for word in ("--fault", each)]
    process = subprocess.Popen(
        [LATTICE, "standin", "quay.yaml", *words], cwd=folder, stderr=subprocess.PIPE,
        text=True,
    )  # fmt: skip
    assert process.stderr is not None
    try:
        assert any("Interrupt to end" in line for line in process.stderr), "they have begun"
        yield Practice(folder, port)
    finally:
        process.send_signal(signal.SIGINT)
        assert process.wait(20) == 0


# By device: where it is, how a hand changes it, and what is to be seen of that.
BY_HAND = {
    "slip-gate": ("127.0.70.1", "read sheet", "trial 60 after {}", "read number", "trial keep",
                  ("Members: 10.70.1.20", "Members: 10.70.1.21"), "translation shop"),
    "jetty-wall": ("127.0.70.2", "chart", "steer 60 from {}", "chart mark", "hold",
                   ("10.70.2.1 0.0.0.255", "10.70.2.1 0.0.1.255"), "address 10.70.2.1/24 on hall0"),
    "ferry-router": ("127.0.70.3", "tables", "flood 60 over {}", "tables stamp", "stand",
                     ("10.70.4.9", "10.70.4.8"), "route 10.70.8.0/22"),
}  # fmt: skip


@ssh
@pytest.mark.real
def test_a_change_by_hand_is_found_and_pushed_back_on_every_vendor(tmp_path: Path) -> None:
    with practice(tmp_path) as here:
        here.captured()
        assert here.lattice("prove", "quay.yaml", "archive")[0] == 0
        for host, show, begin, revision, keep, (old, new), _ in BY_HAND.values():
            text = here.told(host, show)
            assert old in text
            here.told(host, begin.format(here.told(host, revision).strip()), text.replace(old, new, 1))
            here.told(host, keep)
        here.captured()
        code, said = here.lattice("diff", "quay.yaml", "archive")
        assert code == 1 and all(subject in said for *_, subject in BY_HAND.values()), said
        code, said = here.lattice("push", "quay.yaml", "archive", "--yes", "--wave", "2")
        assert code == 0 and "wave 2 of 2: ferry-router" in said and "4 devices: 3 changed, 1 not changed" in said, said
        code, said = here.lattice("push", "quay.yaml", "archive", "--yes")
        assert code == 0 and "4 devices: 4 not changed" in said, "what is done is not done again"
        code, said = here.lattice("prove", "quay.yaml", "archive@good")
        assert code == 1 and said.count("the same for every packet") == 3, said
        assert "light-router: no capture, so not compared" in said, "nothing was changed there, and made sure of"
        assert here.told("127.0.70.1", "read filed sheet") == here.told("127.0.70.1", "read sheet"), "it is saved, too"


@ssh
@pytest.mark.real
def test_what_a_stand_in_is_doing_is_told_with_the_rules_that_do_it(tmp_path: Path) -> None:
    def observed(name: str) -> dict[str, Any]:
        code, said = here.lattice("observe", "quay.yaml", "--device", name, "--format", "json")
        assert code == 0, said
        return dict(json.loads(said))

    with practice(tmp_path, ["ferry-router:unplugged"]) as here:
        out, shop, shut = ("10.70.1.20 198.51.100.7 tcp/443", "198.51.100.7 203.0.113.5 tcp/443",
                           "198.51.100.7 203.0.113.5 tcp/22")  # fmt: skip
        assert here.told("127.0.70.1", f"knock {out}") == "forwarded to next hop 203.0.113.1 via sea\n"
        assert here.told("127.0.70.1", f"knock {shop}") == "delivered to 10.70.1.20 on hall\n"
        here.told("127.0.70.1", f"knock {shut}")
        found = observed("slip-gate")
        made = {each["sent"]["destination"]: (each["seen"]["source"], each["seen"]["destination"], each["rules"])
                for each in found["in_use"]}  # fmt: skip
        assert made == {"198.51.100.7": ("203.0.113.2", "198.51.100.7", ["translation all-out"]),
                        "203.0.113.5": ("198.51.100.7", "10.70.1.20", ["translation shop"])}  # fmt: skip
        counted = {(each["kind"], each["rule"]): each["count"] for each in found["hits"]}
        assert counted["translation", "all-out"] == counted["translation", "shop"] == counted["permit", "out"] == 1
        assert found["unasked"] == [] and found["silent"] == []
        here.told("127.0.70.2", "drift 10.70.2.9 198.51.100.7 icmp")
        found = observed("jetty-wall")
        assert [(each["sent"]["source"], each["seen"]["source"], each["rules"]) for each in found["in_use"]] == [
            ("10.70.2.9", "203.0.113.18", ["translation all-out"])
        ]
        assert {each["rule"]: each["count"] for each in found["hits"]} == {"all-out": 1, "out": 1}
        assert here.told("127.0.70.3", "cast 10.70.4.9 198.51.100.7 udp/53") == "lost: pier0 has no carrier\n"
        code, said = here.lattice("observe", "quay.yaml", "--device", "ferry-router")
        assert code == 0 and "10.70.3.254 on pier0 does not answer: it is the next hop of 0.0.0.0/0" in said, said
        assert "pier0 has no carrier" in said and "1 of 2 interfaces with carrier" in said
        # All of them, and in the report: what is not hit, what fails, and who could not be asked.
        code, said = here.lattice("observe", "quay.yaml")
        assert code == 0 and all(f"{name}: " in said for name in (*BY_HAND, "light-router")), said
        here.captured()
        for page in ("page.html", "page.md"):
            assert here.lattice("report", "quay.yaml", page, "archive", "--observe")[0] == 0
            text = (tmp_path / page).read_text()
            told = text[text.index("In use") :]
            assert "pier0 has no carrier" in told and "does not answer: it is the next hop of 0.0.0.0/0" in told
            assert "slip-gate" in told and "2 translations in use" in told
        assert "never hit" not in here.lattice("observe", "quay.yaml", "--device", "slip-gate")[1]
        # What is translated goes on being so when its rule is gone.
        host, show, begin, revision, keep, *_ = BY_HAND["slip-gate"]
        text = here.told(host, show)
        rest = "\n\n".join(each for each in text.split("\n\n") if not each.startswith("Farewell"))
        here.told(host, begin.format(here.told(host, revision).strip()), rest + "\n")
        here.told(host, keep)
        code, said = here.lattice("observe", "quay.yaml", "--device", "slip-gate")
        assert code == 0 and "no rule any more" in said and "1 of a rule that is not there any more" in said, said
        assert "3 rules, 3 never hit" in said, "counts begin anew with another configuration"
        wrong = subprocess.run([*here.client(host), "knock knock knock"], cwd=tmp_path, capture_output=True, text=True)
        assert wrong.returncode == 1 and "refused:" in wrong.stderr
    code, said = here.lattice("observe", "quay.yaml", "--device", "slip-gate")
    assert code == 2 and "slip-gate: not asked: it refuses the connection" in said, said
    assert here.lattice("report", "quay.yaml", "page.md", "archive", "--observe")[0] == 2
    assert "not asked: it refuses the connection" in (tmp_path / "page.md").read_text()


@ssh
@pytest.mark.real
def test_what_is_left_on_trial_is_confirmed_or_let_go_by_what_the_intent_says(tmp_path: Path) -> None:
    host, show, begin, revision, keep, (old, new), _ = BY_HAND["ferry-router"]
    with practice(tmp_path) as here:
        here.captured()
        right = here.told(host, show)
        wrong = right.replace(old, new, 1)
        resume = ("push", "quay.yaml", "archive", "--device", "ferry-router", "--resume")
        assert here.lattice(*resume)[0] == 0
        here.told(host, begin.format(here.told(host, revision).strip()), wrong)
        code, said = here.lattice(*resume)
        assert code == 1 and "as it was before: still different: route 10.70.8.0/22" in " ".join(said.split()), said
        assert here.told(host, show) == right
        for text, command in ((wrong, keep), (right, "")):
            here.told(host, begin.format(here.told(host, revision).strip()), text)
            if command:
                here.told(host, command)
        code, said = here.lattice(*resume)
        assert code == 0 and "known to be good" in said and here.told(host, show) == right, said


@ssh
@pytest.mark.real
def test_what_goes_wrong_on_the_way_leaves_the_device_as_it_was(tmp_path: Path) -> None:
    faults = ("slip-gate:drop", "jetty-wall:half", "ferry-router:refuse")
    with practice(tmp_path, faults) as here:
        here.captured()
        before = {name: here.told(host, show) for name, (host, show, *_) in BY_HAND.items()}
        moved = here.intent.read_text()
        for old, new in (
            ("10.70.4.9", "10.70.4.8"),
            ("203.0.113.17", "203.0.113.19"),
            ("203.0.113.5,", "203.0.113.6,"),
        ):
            moved = moved.replace(old, new)
        here.intent.write_text(moved.replace("{to: default, via: 203.0.113.1}", "{to: default, via: 203.0.113.9}"))
        reasons = {
            "slip-gate": "the link was lost",
            "jetty-wall": "cannot be read",
            "ferry-router": "there is no room",
        }
        for name, reason in reasons.items():
            code, said = here.lattice("push", "quay.yaml", "archive", "--device", name, "--yes", "--seconds", "3")
            assert code == 1 and "as it was before" in said and reason in " ".join(said.split()), said
        code, said = here.lattice("push", "quay.yaml", "archive", "--yes", "--wave", "1", "--seconds", "3")
        assert (
            code == 1 and "2 not begun" in said and "jetty-wall, ferry-router: not begun: slip-gate failed" in said
        ), said
        assert {name: here.told(host, show) for name, (host, show, *_) in BY_HAND.items()} == before


@ssh
@pytest.mark.real
def test_a_round_that_is_interrupted_goes_on_where_it_was(tmp_path: Path) -> None:
    with practice(tmp_path, ["slip-gate:silent"]) as here:
        command = [LATTICE, "capture", "quay.yaml", "--into", "archive"]
        env = {**os.environ, "XDG_STATE_HOME": str(tmp_path / "state")}
        with subprocess.Popen(
            command, cwd=tmp_path, env=env, stdout=subprocess.PIPE, text=True, start_new_session=True,
            preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),  # ignored in the background
        ) as capture:  # fmt: skip
            time.sleep(6)  # the others take less
            os.killpg(capture.pid, signal.SIGINT)
            said = capture.communicate(timeout=90)[0]
        assert capture.returncode == 2 and "3 devices captured" in said and "interrupted" in said, said
    with practice(tmp_path) as here:
        code, said = here.lattice("capture", "quay.yaml", "--into", "archive", "--resume")
        assert code == 0 and "1 device captured" in said and "slip-gate" in said and "ferry" not in said, said
        code, said = here.lattice("capture", "quay.yaml", "--into", "archive", "--resume")
        assert code == 0 and "nothing to resume" in said
        assert here.lattice("prove", "quay.yaml", "archive")[0] == 0


@ssh
@pytest.mark.real
def test_another_order_of_output_is_no_difference(tmp_path: Path) -> None:
    with practice(tmp_path, [f"{name}:shuffle" for name in BY_HAND]) as here:
        here.captured()
        printed = here.told("127.0.70.3", "tables")
        assert printed.index("shed0") < printed.index("pier0"), "it is another order"
        code, said = here.lattice("prove", "quay.yaml", "archive")
        assert code == 0 and said.count("the same for every packet") == 4, said
        here.intent.write_text(here.intent.read_text().replace("10.70.4.9", "10.70.4.8"))
        code, said = here.lattice("push", "quay.yaml", "archive", "--device", "ferry-router", "--yes")
        assert code == 0 and "known to be good" in said, said


@ssh
@pytest.mark.real
def test_a_device_that_starts_again_meanwhile_is_as_it_was(tmp_path: Path) -> None:
    with practice(tmp_path, ["ferry-router:restart"]) as here:
        here.captured()
        before = here.told("127.0.70.3", "tables")
        here.intent.write_text(here.intent.read_text().replace("10.70.4.9", "10.70.4.8"))
        code, said = here.lattice("push", "quay.yaml", "archive", "--device", "ferry-router", "--yes")
        assert code == 1 and "as it was before: still different: route 10.70.8.0/22" in " ".join(said.split()), said
        assert here.told("127.0.70.3", "tables") == before


@ssh
@pytest.mark.real
def test_somebody_logs_in_and_finds_help_and_completion(tmp_path: Path) -> None:
    with practice(tmp_path) as here:
        process, terminal = pty.fork()
        if not process:
            os.chdir(tmp_path)
            os.execvp("ssh", here.client("127.0.70.3", "-tt"))

        def seen(words: str, until: str) -> str:
            os.write(terminal, words.encode())
            found, end = "", time.monotonic() + 20
            while until not in found and time.monotonic() < end:
                if select.select([terminal], [], [], 0.2)[0]:
                    found += os.read(terminal, 4096).decode(errors="replace")
            assert until in found, found
            return found

        seen("", "ferry-router> ")
        assert "print the tables in force" in seen("help\r", "end the session")
        seen("flo\t", "flood ")
        assert "did you mean" in seen("\bsate\r", "`flood state`")
        seen("depart\r", "closed")
        os.close(terminal)
        os.waitpid(process, 0)


@ssh
@pytest.mark.real
def test_a_device_that_wants_a_password_gets_it_from_a_file_or_the_environment_and_nowhere_else(tmp_path: Path) -> None:
    by_key, by_file = "key: keys/practice", "password-file: keys/gate"
    whole = PRACTICE.read_text()
    before, line, after = whole.partition(next(each for each in whole.splitlines() if "127.0.70.1" in each))
    assert by_key in line
    with practice(tmp_path, text=before + line.replace(by_key, by_file) + after) as here:
        here.captured()
        secret = tmp_path / "keys" / "gate"
        password = secret.read_text().strip()
        code, said = here.lattice("push", "quay.yaml", "archive", "--device", "slip-gate", "--yes")
        assert code == 0 and password not in said, said
        named = here.intent.read_text()
        capture = ("capture", "quay.yaml", "--into", "archive", "--device", "slip-gate")
        here.intent.write_text(named.replace(by_file, "password-variable: GATE"))
        assert "the environment has no GATE" in here.lattice(*capture)[1]
        assert here.lattice(*capture, GATE=password)[0] == 0
        refused = here.lattice(*capture, GATE="tide")[1]
        assert "the login was refused" in refused and "tide" not in refused
        here.intent.write_text(named)
        secret.chmod(0o644)
        assert "others may read the file of its password" in here.lattice(*capture)[1]
    assert not any(password in each.read_text(errors="replace") for each in (tmp_path / "archive").rglob("*.*"))


@ssh
@pytest.mark.real
def test_what_cannot_be_stood_in_for_is_said(tmp_path: Path) -> None:
    with practice(tmp_path) as here:
        code, said = here.lattice("standin", "quay.yaml")
        assert code == 2 and "no stand-in was started" in said, "the addresses are taken"
    here.intent.write_text(here.intent.read_text().replace("127.0.70.1", "192.0.2.70").replace("[mooring]", "[frr]"))
    code, said = here.lattice("standin", "quay.yaml", "--fault", "ferry-router:sinks")
    assert code == 2 and "a device and a fault are wanted" in said
    here.intent.write_text(here.intent.read_text().replace("[tideway]", "[bird]").replace("[ietf-yang]", "[netplan]"))
    code, said = here.lattice("standin", "quay.yaml")
    assert code == 2 and "no device of it can be stood in for" in said


@pytest.mark.parametrize("vendor", VENDORS)
def test_what_the_vendor_documents_is_its_command_line(vendor: str) -> None:
    page = (ROOT / "docs" / "vendors" / f"{vendor}.md").read_text()
    told = page.partition("## Its command line")[2]
    assert [line for line in told.splitlines() if line.startswith("| `")] == [
        f"| `{each.words}` | {each.help} |" for each in VENDORS[vendor]
    ]


class Lossy(Session):
    """A device whose answers to some commands are lost, after it has done what they say."""

    def __init__(self, console: Console, lost: str) -> None:
        self.device, self.console, self.lost = "quay", console, lost

    def command(self, command: str, text: str = "", seconds: float = 1.0) -> Answer:
        said = self.console.run(command, text)
        if command.startswith(self.lost):
            self.lost = "nothing more"
            raise TransportError("quay", "the link was lost")
        return Answer(0, said, "")


@pytest.mark.parametrize(("lost", "state"), [("trial keep", "kept"), ("trial end", "back")])
def test_a_decision_whose_answer_is_lost_is_told_as_it_is(lost: str, state: str) -> None:
    device = Standin("quay", "bollard", SHEETS[0])
    load, revision = Load(SHEETS[1], SHEETS[0], "", "", 1), device.revision
    trial = BUILT_IN.dialect("bollard").running.trial
    put = put_on_trial(Lossy(Console(device), lost), trial, load, revision)
    assert put.state == "applied"
    assert put.decide("confirm" if state == "kept" else "failed") == state
    assert device.running == SHEETS[state == "kept"]
