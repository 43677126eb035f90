"""A Linux kernel of its own, run as a process: it has the VLANs and bridges that the host's kernel may lack.

Needs root and Debian's packages `user-mode-linux` and `kmod`. The guest sees the host's files, and can write to its
folder for temporary ones only.
"""

from __future__ import annotations

import os
import shlex
import shutil
import signal
import subprocess
import tempfile
import time
from contextlib import suppress
from pathlib import Path
from select import select
from types import TracebackType

from machines import ProgramError

KERNEL = "linux.uml"
MODULES = ("bridge", "8021q", "dummy", "veth")
TEMPORARY = Path(tempfile.gettempdir())
# Jobs are files; the number of each comes by a serial line, and how it ended goes back by it.
INIT = """\
#!/bin/sh
export PATH=/usr/sbin:/usr/bin:/sbin:/bin HOME=/root
mount -t proc proc /proc
mount -t sysfs sysfs /sys
mount -t tmpfs tmpfs /run
mount -t hostfs none {temporary} -o {temporary}
mkdir -p /run/modules/lib
ln -s /usr/lib/uml/modules /run/modules/lib/modules
for module in {modules}; do modprobe -d /run/modules $module; done
ip link set lo up
cd {folder}
stty -F /dev/ttyS0 raw -echo
exec 3<>/dev/ttyS0
echo ready >&3
while read -r job <&3 && [ "$job" != stop ]; do
    (. ./$job.sh) > $job.out 2> $job.err < /dev/null
    echo "ended $?" >&3
done
echo o > /proc/sysrq-trigger
sleep 9
"""


def bootable() -> bool:
    """Tell whether a guest can be started."""
    return os.geteuid() == 0 and all(shutil.which(each) for each in (KERNEL, "modprobe", "ip", "bridge"))


class Guest:
    """A running kernel, which does what it is told one after another.

    Args:
        memory: In MiB.
    """

    def __init__(self, memory: int = 256) -> None:
        self.memory = memory
        self.jobs = 0

    def __enter__(self) -> Guest:
        self.folder = Path(tempfile.mkdtemp(prefix="lattice-guest-"))
        init = self.folder / "init"
        init.write_text(INIT.format(temporary=TEMPORARY, folder=self.folder, modules=" ".join(MODULES)))
        init.chmod(0o755)
        command = [KERNEL, f"mem={self.memory}M", "root=/dev/root", "rootfstype=hostfs", "rootflags=/", "ro", "quiet",
                   f"init={init}", "con=null", "ssl0=fd:0,fd:1"]  # fmt: skip
        self.log = (self.folder / "console").open("w")
        self.process = subprocess.Popen(
            command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=self.log, bufsize=0, start_new_session=True
        )
        self.answer("ready", 30)
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        with suppress(subprocess.TimeoutExpired, OSError):
            self.tell("stop")
            self.process.wait(10)
        if self.process.poll() is None:
            os.killpg(self.process.pid, signal.SIGKILL)
            self.process.wait()
        self.log.close()
        shutil.rmtree(self.folder, ignore_errors=True)

    def tell(self, word: str) -> None:
        """Write a line into the serial line."""
        assert self.process.stdin is not None
        self.process.stdin.write(f"{word}\n".encode())
        self.process.stdin.flush()

    def answer(self, begins: str, seconds: float) -> str:
        """Return the rest of the next line that begins with a word.

        Raises:
            ProgramError: If none comes, with what the kernel said last.
        """
        assert self.process.stdout is not None
        end = time.monotonic() + seconds
        while select([self.process.stdout], [], [], max(0, end - time.monotonic()))[0]:
            line = self.process.stdout.readline().decode(errors="replace")
            if line.startswith(begins):
                return line.removeprefix(begins).strip()
            if not line:
                break
        raise ProgramError(f"the guest does not answer: {(self.folder / 'console').read_text()[-500:]}")

    def run(self, *command: str, input: str | None = None) -> str:
        """Run a program in the guest; return what it printed.

        Raises:
            ProgramError: With what it said, if it failed.
        """
        job = self.folder / str(self.jobs)
        self.jobs += 1
        line = shlex.join(command)
        if input is not None:
            job.with_suffix(".in").write_text(input)
            line += f" < {job}.in"
        job.with_suffix(".sh").write_text(line + "\n")
        self.tell(job.name)
        if self.answer("ended", 60) != "0":
            said = job.with_suffix(".err").read_text() or job.with_suffix(".out").read_text()
            raise ProgramError(f"{line}: {said.strip()}")
        return job.with_suffix(".out").read_text()
