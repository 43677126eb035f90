"""A round of captures from many devices, all of which one process stands in for.

    .venv/bin/python benchmarks/rounds.py [DEVICES]

The peer is the client of OpenSSH alone, which runs the same command on the same devices, as many at a time. Wall time,
both on the cores that the stand-ins use as well; memory is the largest that a process had.
"""

from __future__ import annotations

import os
import resource
import signal
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from agile_lattice.transport.rounds import AT_ONCE
from figures import keep

LATTICE = str(Path(sys.executable).with_name("lattice"))
PORT = 2291
FILES = 8192  # that may be open at once


def intent(count: int) -> str:
    devices = "".join(
        f"  gate-{n}:\n    speaks: [bollard]\n    connection: {{ssh: {address(n)}, port: {PORT}, user: practice, "
        "key: keys/practice, known-hosts: keys/known_hosts}\n    interfaces: {sea: {address: 203.0.113.2/28}}\n"
        "    routes: [{to: default, via: 203.0.113.1}]\n"
        for n in range(count)
    )
    return f"lattice: 1\ndevices:\n{devices}"


def address(number: int) -> str:
    return f"127.71.{number // 250}.{number % 250 + 1}"


def asked(folder: Path, number: int) -> str:
    """Ask one device with the client of OpenSSH alone."""
    options = ["-o", "BatchMode=yes", "-o", "UserKnownHostsFile=keys/known_hosts", "-o", "GlobalKnownHostsFile=/dev/null",
               "-o", "IdentitiesOnly=yes", "-i", "keys/practice", "-p", str(PORT)]  # fmt: skip
    command = ["ssh", *options, f"practice@{address(number)}", "read sheet"]
    return subprocess.run(command, cwd=folder, capture_output=True, text=True, check=True).stdout


def main(count: int = 1000) -> None:
    resource.setrlimit(resource.RLIMIT_NOFILE, (FILES, FILES))
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "many.yaml").write_text(intent(count))
        env = {**os.environ, "XDG_STATE_HOME": str(folder / "state")}
        standins = subprocess.Popen([LATTICE, "standin", "many.yaml"], cwd=folder, stderr=subprocess.PIPE, text=True)
        assert standins.stderr is not None
        assert any("Interrupt to end" in line for line in standins.stderr)
        try:
            start = time.perf_counter()
            with ThreadPoolExecutor(AT_ONCE) as pool:
                assert all(pool.map(lambda number: "Gateway" in asked(folder, number), range(count)))
            alone = time.perf_counter() - start
            start = time.perf_counter()
            round_ = subprocess.Popen([LATTICE, "capture", "many.yaml", "--into", "archive"], cwd=folder, env=env,
                                      stdout=subprocess.DEVNULL)  # fmt: skip
            _, code, used = os.wait4(round_.pid, 0)
            took = time.perf_counter() - start
            assert code == 0
        finally:
            standins.send_signal(signal.SIGINT)
            _, _, stood = os.wait4(standins.pid, 0)
        memory = f"{used.ru_maxrss // 1024} MB", f"{stood.ru_maxrss // 1024} MB"
        row = {"what": f"a round of {count} devices", "ours, s": f"{took:.1f}", "the client alone, s": f"{alone:.1f}",
               "ratio": f"{took / alone:.2f}", "memory of the round": memory[0], "of all stand-ins": memory[1]}  # fmt: skip
        keep("rounds", row)


if __name__ == "__main__":
    main(*(int(each) for each in sys.argv[1:]))
