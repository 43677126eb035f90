"""The last chapter of `lattice demo`: devices to practise on, one of which somebody changes by hand."""

from __future__ import annotations

import os
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import chdir, contextmanager
from importlib.util import find_spec
from pathlib import Path

HOST, INTENT = "127.0.70.1", "quay.yaml"
BEGUN = "Interrupt to end"  # what `lattice standin` says when all have begun
BEGIN = "from agile_lattice.cli.main import run; run()"
WITHOUT = "It needs OpenSSH's client and the extra: pip install 'agile-lattice[live]'. Nothing is shown here."


def can_practise() -> bool:
    """Tell whether stand-ins can be begun and reached here."""
    return find_spec("asyncssh") is not None and shutil.which("ssh") is not None


@contextmanager
def practice(data: Path) -> Iterator[None]:
    """Begin the devices of the practice, in a folder of their own that is the current one meanwhile.

    Args:
        data: The demo data.
    """
    with tempfile.TemporaryDirectory() as name, chdir(name):
        text = (data / "practice" / INTENT).read_text(encoding="utf-8")
        Path(INTENT).write_text(text.replace("port: 2270", f"port: {_free_port()}"), encoding="utf-8")
        command = [sys.executable, "-c", BEGIN, "standin", INTENT]
        before = os.environ.get("XDG_STATE_HOME")
        os.environ["XDG_STATE_HOME"] = str(Path("state").absolute())
        with subprocess.Popen(command, stderr=subprocess.PIPE, text=True) as devices:
            try:
                assert devices.stderr is not None
                if not any(BEGUN in line for line in devices.stderr):
                    raise OSError("the devices to practise on did not begin")
                yield
            finally:
                devices.send_signal(signal.SIGINT)
                os.environ.pop("XDG_STATE_HOME")
                if before is not None:
                    os.environ["XDG_STATE_HOME"] = before


def in_a_hurry(old: str, new: str) -> list[str]:
    """Change the configuration of a device by hand, as somebody does who has no time; return what was typed."""
    sheet = _typed("read sheet")
    number = _typed("read number").strip()
    _typed(f"trial 60 after {number}", sheet.replace(old, new))
    _typed("trial keep")
    return [f"ssh {HOST} read sheet > hurry", f"sed -i s/{old}/{new}/ hurry",
            f"ssh {HOST} trial 60 after {number} < hurry", f"ssh {HOST} trial keep"]  # fmt: skip


def pretended(*packets: str) -> list[str]:
    """Pretend that packets come to the device; return what was typed, and what it printed."""
    return [line for each in packets for line in (f"$ ssh {HOST} knock {each}", _typed(f"knock {each}").rstrip())]


def _typed(words: str, text: str = "") -> str:
    """Type a command on the device; return what it prints."""
    port = next(line for line in Path(INTENT).read_text().splitlines() if HOST in line).split("port: ")[1].split(",")[0]
    command = ["ssh", "-o", "UserKnownHostsFile=keys/known_hosts", "-o", "GlobalKnownHostsFile=/dev/null", "-o",
               "IdentitiesOnly=yes", "-i", "keys/practice", "-p", port, f"practice@{HOST}", words]  # fmt: skip
    done = subprocess.run(command, input=text, capture_output=True, text=True, timeout=30, check=True)
    return done.stdout


def _free_port() -> int:
    with socket.create_server((HOST, 0)) as server:
        return int(server.getsockname()[1])
