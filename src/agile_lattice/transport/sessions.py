"""Shells on devices: on this system, in a network namespace of it, or by the SSH client of OpenSSH.

Host keys are never taken on trust: SSH is told to refuse those that it does not know, and to ask nothing.
"""

from __future__ import annotations

import os
import subprocess
from collections.abc import Sequence
from pathlib import Path

import msgspec

from agile_lattice.intent.connections import Connection
from agile_lattice.transport.errors import TransportError
from agile_lattice.transport.passwords import answering, password_of

SECONDS = 60.0
CONNECTING = 10  # seconds
SSH_FAILED = 255  # what the client of OpenSSH exits with, if it is not the command that failed
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
        """Run a script of the shell.

        Raises:
            TransportError: If the device was not reached, or did not answer in time.
        """
        return self._answer(["sh", "-s"], script, seconds)

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
            done = subprocess.run(
                [*self._command, *command], input=text.encode(), capture_output=True, timeout=seconds, check=False,
                env=environment,
            )  # fmt: skip
        except subprocess.TimeoutExpired:
            raise TransportError(self.device, f"it did not answer within {seconds:.0f} s") from None
        except OSError as error:
            raise TransportError(self.device, f"{self._command[0]} cannot be run", error.strerror or "") from None
        complaint = done.stderr.decode(errors="replace").strip()
        if self.connection.by == "ssh" and done.returncode == SSH_FAILED:
            raise self._failed(complaint)
        if self.connection.by == "namespace" and "Cannot open network namespace" in complaint:
            raise TransportError(self.device, "there is no such namespace", complaint, "Namespaces need root.")
        return Answer(done.returncode, done.stdout.decode(errors="replace"), complaint)

    def _failed(self, complaint: str) -> TransportError:
        lines = complaint.splitlines()
        said = next((line for line in reversed(lines) if line.strip()), "")
        for word, cause, remedy in CAUSES:
            if word in complaint:
                return TransportError(self.device, cause, _fingerprint(lines) or said, remedy)
        return TransportError(self.device, "SSH failed", said)


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
