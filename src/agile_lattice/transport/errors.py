"""What can go wrong on the way to a device."""

from __future__ import annotations

from agile_lattice.errors import LatticeError

MARKS = frozenset("^~ \t")  # lines of these show where in the line before them something is wrong


class TransportError(LatticeError):
    """A device was not reached, or did not do what it was asked.

    Attributes:
        device: Its name.
        cause: What happened, in a few words that several devices may share.
        detail: What was said of it; may be empty.
        remedy: What to do; may be empty.
    """

    def __init__(self, device: str, cause: str, detail: str = "", remedy: str = "") -> None:
        self.device, self.cause, self.detail, self.remedy = device, cause, detail, remedy
        super().__init__(device, cause, detail, remedy)

    def __str__(self) -> str:
        words = f"{self.device}: {self.cause}{f': {self.detail}' if self.detail else ''}"
        return f"{words}\n    {self.remedy}" if self.remedy else words


def main_message(said: str) -> str:
    r"""Return the line of what a program said that tells what is wrong, and not what shows where; empty for none.

    Example:
        >>> main_message("rules:1:1-3: Error: syntax error\nadd foo\n^^^")
        'rules:1:1-3: Error: syntax error'
    """
    kept: list[str] = []
    for line in said.split("\n"):
        if line.strip() and MARKS.issuperset(line):
            del kept[-1:]  # the line that it points into
        elif line.strip():
            kept.append(line.strip())
    return next((line for line in kept if "error" in line.lower()), kept[-1] if kept else "")
