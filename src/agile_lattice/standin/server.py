"""The SSH servers of stand-ins: for the client of OpenSSH, and for programs that give one command."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from pathlib import Path

import asyncssh
import msgspec

from agile_lattice.standin.commands import Console, Leave
from agile_lattice.standin.device import SLOW, Refused, Standin

END = "."  # a line that ends a configuration which is typed
REFUSED = 1  # exit code


class Served(msgspec.Struct, frozen=True):
    """A stand-in, and where it is reached.

    Attributes:
        login: User and password of who may log in so; those with the key if there is none.
    """

    device: Standin
    host: str
    port: int
    login: tuple[str, str] | None = None


def keys(key: Path, known_hosts: Path, served: Sequence[Served]) -> asyncssh.SSHKey:
    """Make the key of those who log in, unless it is there, and say which key the devices have; return that key.

    Args:
        key: The file of the private key; the public one is beside it.
        known_hosts: The file for the client.
        served: The devices.
    """
    for path in (key, known_hosts):
        path.parent.mkdir(parents=True, exist_ok=True)
    if not key.exists():
        made = asyncssh.generate_private_key("ssh-ed25519", "practice")
        made.write_private_key(str(key))
        key.chmod(0o600)
        made.write_public_key(f"{key}.pub")
    host_file = known_hosts.with_name(f"{known_hosts.name}.host")
    if not host_file.exists():
        asyncssh.generate_private_key("ssh-ed25519", "stand-in").write_private_key(str(host_file))
        host_file.chmod(0o600)
    host = asyncssh.read_private_key(str(host_file))
    public = host.export_public_key().decode().split()
    lines = [f"[{each.host}]:{each.port} {public[0]} {public[1]}\n" for each in served]
    known = known_hosts.read_text().splitlines(keepends=True) if known_hosts.exists() else []
    known_hosts.write_text("".join(dict.fromkeys([*known, *lines])))
    return host


async def serve(served: Sequence[Served], host_key: asyncssh.SSHKey, client_key: Path) -> list[asyncssh.SSHAcceptor]:
    """Let devices be reached.

    Args:
        served: The devices, and where.
        host_key: Their key.
        client_key: The private key of those who may log in; its public part is beside it.

    Raises:
        OSError: If an address or a port cannot be had.
    """
    return [
        await asyncssh.create_server(
            lambda one=each: _Server(one), each.host, each.port, server_host_keys=[host_key],
            authorized_client_keys=None if each.login else f"{client_key}.pub",
            process_factory=_Sessions(each.device).handle,
        )
        for each in served
    ]  # fmt: skip


class _Server(asyncssh.SSHServer):
    def __init__(self, served: Served) -> None:
        self.served = served

    def connection_made(self, conn: asyncssh.SSHServerConnection) -> None:
        if self.served.device.cut_off:
            conn.abort()

    def password_auth_supported(self) -> bool:
        return self.served.login is not None

    def validate_password(self, username: str, password: str) -> bool:
        return (username, password) == self.served.login


class _Sessions:
    """What happens in the sessions of one device."""

    def __init__(self, device: Standin) -> None:
        self.device = device

    async def handle(self, process: asyncssh.SSHServerProcess[str]) -> None:
        if "silent" in self.device.faults:
            await asyncio.Event().wait()
        console = Console(self.device)
        try:
            code = await (self._one(process, console) if process.command else self._many(process, console))
        except (asyncssh.BreakReceived, asyncssh.TerminalSizeChanged, asyncssh.ConnectionLost):
            code = REFUSED
        process.exit(code)

    async def _one(self, process: asyncssh.SSHServerProcess[str], console: Console) -> int:
        """Run the command that a program gives."""
        line = process.command or ""
        text = await process.stdin.read() if console.takes_text(line) else ""
        return await self._run(process, console, line, text)

    async def _many(self, process: asyncssh.SSHServerProcess[str], console: Console) -> int:
        """Run what somebody types."""
        _complete(process, console)
        process.stdout.write(f"{self.device.name}, a stand-in to practise on. `help` lists the commands.\n")
        while True:
            process.stdout.write(f"{self.device.name}> ")
            line = await process.stdin.readline()
            if not line:
                return 0
            if not line.strip():
                continue
            text = await self._typed(process) if console.takes_text(line) else ""
            try:
                await self._run(process, console, line, text)
            except Leave:
                return 0

    async def _typed(self, process: asyncssh.SSHServerProcess[str]) -> str:
        process.stdout.write(f"Give the configuration, and `{END}` on a line of its own behind it.\n")
        lines: list[str] = []
        while (line := await process.stdin.readline()) and line.strip() != END:
            lines.append(line)
        return "".join(lines)

    async def _run(self, process: asyncssh.SSHServerProcess[str], console: Console, line: str, text: str) -> int:
        if "slow" in self.device.faults:
            await asyncio.sleep(SLOW)
        try:
            process.stdout.write(console.run(line, text))
        except Refused as refused:
            # Somebody who types sees it before the next prompt.
            told = process.stderr if process.command else process.stdout
            told.write(f"refused: {refused}\n")
            return REFUSED
        if self.device.cut_off:
            process.channel.get_connection().abort()
        return 0


def _complete(process: asyncssh.SSHServerProcess[str], console: Console) -> None:
    """Complete a command at the tab key, where there is a terminal."""

    def complete(line: str, at: int) -> tuple[str, int] | bool:
        found = console.completed(line[:at])
        if len(found) == 1:
            whole = f"{found[0]} "
            return whole + line[at:], len(whole)
        if found:
            process.stdout.write("\n" + "   ".join(found) + f"\n{console.device.name}> {line}")
        return True

    register = getattr(process.channel, "register_key", None)
    if register is not None and process.get_terminal_type():
        register("\t", complete)
