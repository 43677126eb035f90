"""What can go wrong on the way to a device."""

from __future__ import annotations

from agile_lattice.errors import LatticeError


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
