"""The configuration of a device, as its own programs print it, in one connection."""

from __future__ import annotations

import hashlib
import hmac
import re
import secrets
import shlex
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path

from agile_lattice.dialects.dialect import Dialect
from agile_lattice.dialects.yang import yang_of
from agile_lattice.intent.connections import Connection
from agile_lattice.transport.errors import TransportError, main_message
from agile_lattice.transport.restconf import Restconf
from agile_lattice.transport.sealing import USUAL_SECRETS
from agile_lattice.transport.sessions import Session

NOT_THERE = 127  # what a shell exits with if there is no such program
SEALED = "sealed:"
PLAIN = re.compile(r"[A-Za-z0-9][\w.@-]{0,120}")  # names of files that devices tell


def session_of(
    device: str, connection: Connection, folder: Path, dialects: Iterable[Dialect] = ()
) -> Session | Restconf:
    """Return the way to a device that its connection says.

    Args:
        device: Its name.
        connection: How it is reached.
        folder: Where file names in that begin.
        dialects: Those that it speaks.
    """
    if connection.by == "restconf":
        return Restconf(device, connection, folder, yang_of(dialects))
    return Session(device, connection, folder)


def capture(session: Session | Restconf, dialects: Sequence[Dialect], seal: bytes) -> dict[str, str]:
    """Fetch the configuration of a device.

    Args:
        session: A shell on the device, or its RESTCONF.
        dialects: Those that it speaks.
        seal: The key by which passwords and keys are made unreadable before anything else happens to the texts.

    Returns:
        The texts, by the name of the file that each belongs into.

    Raises:
        TransportError: If the device is not reached, a program fails, or a dialect says nothing of how it is asked.
    """
    by_resource = isinstance(session, Restconf)
    silent = next(
        (each.name for each in dialects if not (each.running.resources if by_resource else each.running.capture)), None
    )
    if silent is not None:
        how, where = (
            ("by RESTCONF", "[running] resources") if by_resource else ("a running system", "[running.capture]")
        )
        raise TransportError(
            session.device, f"the dialect {silent} does not say how {how} is asked",
            remedy=f"Say it in the file of the dialect, under {where}.",
        )  # fmt: skip
    # Two dialects may ask for the same text by the same command: it is one.
    asked = list(dict.fromkeys(each for dialect in dialects for each in dialect.running.capture.items()))
    hidden = [*(re.compile(each) for dialect in dialects for each in dialect.running.secrets), *USUAL_SECRETS]
    if isinstance(session, Restconf):
        texts = {dialects[0].forms[0].file: session.configuration(resources_of(dialects))[0]}
    else:
        texts = answered(session, dialects, asked)
    return {name: sealed(text, hidden, seal) for name, text in texts.items()}


def answered(
    session: Session | Restconf,
    dialects: Sequence[Dialect],
    asked: Sequence[tuple[str, str]],
    failed: dict[str, str] | None = None,
) -> dict[str, str]:
    """Return what a device answers to questions, by their names.

    Args:
        session: A shell on the device, or its RESTCONF.
        dialects: Those that it speaks.
        asked: Names and commands, or resources.
        failed: Gets why a command failed, by its name; without it that is an error.

    Raises:
        TransportError: If the device is not reached, or a command fails.
    """  # fmt: skip
    if isinstance(session, Restconf):
        return {name: session.entries(resource) for name, resource in asked}
    if all(each.running.shell for each in dialects):
        return ask(session, asked, failed) if asked else {}
    told = {name: session.command(command) for name, command in asked}
    for name, answer in told.items():
        if answer.code:
            _refuse(session.device, asked, name, answer.code, answer.complaint, failed)
    return {name: answer.output for name, answer in told.items() if not answer.code}


def resources_of(dialects: Iterable[Dialect]) -> list[str]:
    """Return the top-level resources of RESTCONF that some dialects are about."""
    return [each for dialect in dialects for each in dialect.running.resources]


def ask(session: Session, asked: Sequence[tuple[str, str]], failed: dict[str, str] | None = None) -> dict[str, str]:
    """Run commands on a device in one connection, and return what each printed, by its name.

    Args:
        session: A shell on the device.
        asked: Names and commands; `*` stands before a pattern of files, each of which is an answer by its own name.
        failed: Gets why a command failed, by its name; without it that is an error.

    Raises:
        TransportError: If the device is not reached, or a command fails.
    """
    mark = secrets.token_hex(16)
    answer = session.run("".join(_question(name, command, mark) for name, command in asked))
    texts: dict[str, str] = {}
    for name, text, code in _answers(answer.output, mark):
        if not PLAIN.fullmatch(name):
            raise TransportError(session.device, "a file has a name that is no plain one", name)
        if code:
            _refuse(session.device, asked, name, code, answer.complaint, failed)
            continue
        if name in texts:
            raise TransportError(session.device, "two of its files have one name, and a capture could hold one", name)
        texts[name] = text
    known = {"*", *texts, *(failed or ())}
    missing = next((name for name, _ in asked if name not in known), None)
    if missing is not None:
        raise TransportError(session.device, f"the answer ends before {missing}", answer.complaint)
    return texts


def _question(name: str, command: str, mark: str) -> str:
    """Return what prints one text between marks, with its name before and the exit code behind."""
    if name == "*":
        body = _question('"$(basename "$file")"', 'cat "$file"', mark)
        return f'for file in {command}; do [ -f "$file" ] || continue; {body}done\n'
    named = name if name.startswith('"') else shlex.quote(name)
    return f"printf '{mark} %s\\n' {named}; ({command}); printf '\\n{mark} %d\\n' $?\n"


def _answers(output: str, mark: str) -> Iterator[tuple[str, str, int]]:
    pattern = re.compile(rf"^{mark} (?P<name>.+)\n(?P<text>(?s:.*?))\n{mark} (?P<code>\d+)$", re.MULTILINE)
    for each in pattern.finditer(output):
        yield each["name"], each["text"], int(each["code"])


def _refuse(
    device: str, asked: Iterable[tuple[str, str]], name: str, code: int, complaint: str, failed: dict[str, str] | None
) -> None:
    """Say that a command failed: to whoever wants to know, or as an error."""
    command = next((command for each, command in asked if each == name), name)
    cause = f"{command.split()[0]} is not there" if code == NOT_THERE else f"`{command}` failed"
    if failed is None:
        raise TransportError(device, cause, main_message(complaint) or f"exit code {code}")
    failed[name] = cause


def sealed(text: str, hidden: Iterable[re.Pattern[str]], seal: bytes) -> str:
    """Return a text with its secrets made unreadable: equal ones stay equal, and nobody can guess them without the key.

    Example:
        >>> sealed("password tide", [re.compile("password ([a-z]+)")], b"key").startswith("password sealed:")
        True
    """
    for pattern in hidden:
        text = pattern.sub(lambda match: _with_sealed(match, seal), text)
    return text


def _with_sealed(match: re.Match[str], seal: bytes) -> str:
    secret = match[1]
    if secret.startswith(SEALED):
        return match[0]
    begin, end = match.start(1) - match.start(), match.end(1) - match.start()
    digest = hmac.new(seal, secret.encode(), hashlib.sha256).hexdigest()[:16]
    return f"{match[0][:begin]}{SEALED}{digest}{match[0][end:]}"
