"""Shells on devices: on this system, in a network namespace of it, or by the SSH client of OpenSSH.

Host keys are never taken on trust: SSH is told to refuse those that it does not know, and to ask nothing.
"""

from __future__ import annotations

import os
import subprocess
import tempfile
from collections.abc import Sequence
from pathlib import Path
from threading import Event, Timer

import msgspec

from agile_lattice.intent.connections import Connection
from agile_lattice.transport.errors import TransportError
from agile_lattice.transport.passwords import answering, password_of

SECONDS = 60.0
CONNECTING = 10  # seconds
MOST_ANSWERED = 64 * 2**20  # octets of one answer
MOST_COMPLAINED = 2**16
SSH_FAILED = 255  # what the client of OpenSSH exits with, if it is not the command that failed
LET_IN = "Let it run `sh` without a password: `USER ALL=(root) NOPASSWD: /usr/bin/sh` in /etc/sudoers.d there."
# Where tools of administrators are, which are not in the path of every user.
FOUND_IN = 'PATH="$PATH:/usr/local/sbin:/usr/sbin:/sbin"\n'
# What the client says, what that is, and what to do.
CAUSES = (
    ("Host key verification failed", "its host key is not known, or is another one",
     "Compare the fingerprint by another way, and put the key into the file of known hosts."),
    ("Permission denied", "the login was refused",
     "Check the user and the key or the password, or what the SSH agent holds."),
    ("Could not resolve", "its name is not known", ""),
    ("timed out", "it does not answer", ""),
    ("Connection refused", "it refuses the connection", ""),
    ("No route to host", "there is no route to it", ""),
    ("Connection closed", "it closed the connection", ""),
)  # fmt: skip


class Answer(msgspec.Struct, frozen=True):
    """What a script did: its exit code, its output and what it complained of."""

    code: int
    output: str
    complaint: str


class Session:
    """A shell on a device.

    Args:
        device: The device's name.
        connection: How it is reached.
        folder: Where file names of the connection begin: that of the intent.
    """

    def __init__(self, device: str, connection: Connection, folder: Path = Path()) -> None:
        self.device = device
        self.connection = connection
        self._command = _command(connection, folder)
        self._folder = folder

    def run(self, script: str, seconds: float = SECONDS) -> Answer:
        """Run a script of the shell, as root if the connection says so.

        Raises:
            TransportError: If the device was not reached, did not answer in time, or does not let its user be root.
        """
        if not self.connection.sudo:
            return self._answer(["sh", "-s"], FOUND_IN + script, seconds)
        answer = self._answer(["sudo", "-n", "sh", "-s"], FOUND_IN + script, seconds)
        refused = next((line for line in answer.complaint.split("\n") if "sudo: " in line), "")
        if answer.code and refused and not answer.output:
            raise TransportError(self.device, "its user may not become root by `sudo`", refused, LET_IN)
        return answer

    def command(self, command: str, text: str = "", seconds: float = SECONDS) -> Answer:
        """Run one command of a device that has no shell, as a request by itself; `text` is what it reads.

        Raises:
            TransportError: If the device was not reached, or did not answer in time.
        """
        return self._answer([command] if self.connection.by == "ssh" else ["sh", "-c", command], text, seconds)

    def _answer(self, command: Sequence[str], text: str, seconds: float) -> Answer:
        one = self.connection
        asked = one.by == "ssh" and bool(one.password_file or one.password_variable)
        environment = answering(password_of(self.device, one, self._folder)) if asked else None
        try:
            code, output, complaint = _bounded([*self._command, *command], text.encode(), seconds, environment)
        except TimeoutError:
            raise TransportError(self.device, f"it did not answer within {seconds:.0f} s") from None
        except OverflowError:
            most, remedy = f"it answers with more than {MOST_ANSWERED // 2**20} MB", "Ask it for less in its dialect."
            raise TransportError(self.device, most, remedy=remedy) from None
        except OSError as error:
            raise TransportError(self.device, f"{self._command[0]} cannot be run", error.strerror or "") from None
        if self.connection.by == "ssh" and code == SSH_FAILED:
            raise self._failed(complaint)
        if self.connection.by == "namespace" and "Cannot open network namespace" in complaint:
            raise TransportError(self.device, "there is no such namespace", complaint, "Namespaces need root.")
        return Answer(code, output, complaint)

    def _failed(self, complaint: str) -> TransportError:
        lines = complaint.split("\n")
        said = next((line for line in reversed(lines) if line.strip()), "")
        for word, cause, remedy in CAUSES:
            if word in complaint:
                return TransportError(self.device, cause, _fingerprint(lines) or said, remedy)
        return TransportError(self.device, "SSH failed", said)


def _bounded(
    command: Sequence[str], given: bytes, seconds: float, environment: dict[str, str] | None
) -> tuple[int, str, str]:
    """Run a program, and keep no more of what it prints than there is room for.

    Returns:
        Its exit code, what it printed, and what it complained of.

    Raises:
        OverflowError: If it prints more.
        TimeoutError: If it is not done in time.
        OSError: If it cannot be run.
    """
    late = Event()
    with tempfile.TemporaryFile() as asked, tempfile.TemporaryFile() as said:
        asked.write(given)
        asked.seek(0)
        with subprocess.Popen(command, stdin=asked, stdout=subprocess.PIPE, stderr=said, env=environment) as process:

            def stop() -> None:
                late.set()
                process.kill()

            timer = Timer(seconds, stop)
            timer.start()
            try:
                assert process.stdout is not None
                output = process.stdout.read(MOST_ANSWERED + 1)
                if len(output) > MOST_ANSWERED:
                    process.kill()
                code = process.wait()
            finally:
                timer.cancel()
        said.seek(0)
        complaint = said.read(MOST_COMPLAINED).decode(errors="replace").strip()
    if late.is_set():
        raise TimeoutError
    if len(output) > MOST_ANSWERED:
        raise OverflowError
    return code, output.decode(errors="replace"), complaint


def _fingerprint(lines: list[str]) -> str:
    return next((line.strip() for line in lines if "SHA256:" in line), "")


def _command(one: Connection, folder: Path) -> list[str]:
    if one.by == "local":
        return []
    if one.by == "namespace":
        return ["ip", "netns", "exec", one.to]
    options = {"BatchMode": "yes", "StrictHostKeyChecking": "yes", "ConnectTimeout": str(CONNECTING),
               "ServerAliveInterval": "5", "ServerAliveCountMax": "2"}  # fmt: skip
    if one.password_file or one.password_variable:
        options |= {"BatchMode": "no", "NumberOfPasswordPrompts": "1", "PubkeyAuthentication": "no",
                    "PreferredAuthentications": "password,keyboard-interactive"}  # fmt: skip
    if one.known_hosts:
        options["UserKnownHostsFile"] = str(_path(one.known_hosts, folder))
        options["GlobalKnownHostsFile"] = os.devnull
    command = ["ssh", "-T", "-p", str(one.port)]
    for name, value in options.items():
        command += ["-o", f"{name}={value}"]
    if one.key:
        command += ["-i", str(_path(one.key, folder)), "-o", "IdentitiesOnly=yes"]
    if one.user:
        command += ["-l", one.user]
    return [*command, "--", one.to]


def _path(name: str, folder: Path) -> Path:
    return folder / Path(name).expanduser()
