"""A change tried on the captured configuration, before anybody gets to see it."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence

from msgspec.structs import replace

from agile_lattice.compare.comparing import compared
from agile_lattice.compare.differences import Comparison, Difference, Gap
from agile_lattice.compare.withholding import ENTANGLED, IN_ORDER, PLACE_ONLY, Held
from agile_lattice.dialects.assembly import assemble
from agile_lattice.dialects.changes.changing import TextChange
from agile_lattice.dialects.dialect import Dialect, Form
from agile_lattice.dialects.errors import CaptureError, ChangeError
from agile_lattice.dialects.facts import AddressFact, Fact
from agile_lattice.dialects.reading.parting import readings
from agile_lattice.dialects.reading.texts import Reading, read_form
from agile_lattice.dialects.reading.understanding import Leftover
from agile_lattice.dialects.surfaces import lines_of
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import Device, Section

TRIED = "applied to the captured configuration,"


class Trial:
    """The captured texts, as they become when changes are made.

    Args:
        device: The device's name.
        read: What was read of each text, with its name.
        texts: The texts, by name.

    Attributes:
        device: The device's name.
        texts: As they are after the changes so far.
    """

    def __init__(self, device: str, read: Iterable[tuple[str, Reading]], texts: Mapping[str, str]) -> None:
        self.device = device
        self._read = list(read)
        self.texts = dict(texts)
        self._before = dict(texts)
        self._running: dict[str, Reading] = {}  # by dialect, of systems whose configuration is only seen

    def changed(
        self, dialect: Dialect, form: Form, texts: Sequence[tuple[str, str]], changes: Iterable[TextChange]
    ) -> None:
        """Make a change of texts in a form of a dialect; one that was not captured stands for a running system."""
        after = {each.file: each.after for each in changes}
        captured = {file for file, _ in texts} & self.texts.keys()
        if captured or not texts:
            self.texts |= after
            return
        [(file, text)] = texts
        self._running[dialect.name] = read_form(dialect, form, after.get(file, text), file)

    def check(
        self,
        intent: Device,
        dialects: Sequence[Dialect],
        before: Comparison,
        held: Iterable[Held],
        apart: Collection[Section] = (),
        unchanged: list[Gap] | None = None,
    ) -> tuple[list[Gap], list[Held]]:
        """Compare the device as it would become with its intent, and make sure that nothing is lost.

        Args:
            intent: The device as it should be.
            dialects: Those that it speaks.
            before: What differs now.
            held: What is withheld.
            apart: Sections that are changed in another way.
            unchanged: What differs, if no text was changed.

        Returns:
            What would be left that is not withheld; and what is left since something stands with it that was not
            understood.

        Raises:
            ChangeError: If a line would be lost or moved that was not understood.
        """
        try:
            read = list(self._readings(list(dialects)))
            capture = assemble(intent.name, list(dialects), read)
        except CaptureError as error:
            raise ChangeError(intent.name, f"{TRIED} the result cannot be read: {error}") from None
        self._lose_nothing(intent.name, read)
        self._lose_no_line_of(intent.name, before.leftovers)
        # What follows from several texts at once is not seen again of a running system; more of it there must not be.
        named = {(each.place.file, each.text) for each in before.leftovers}
        more_left = next((each for each in capture.leftovers if (each.place.file, each.text) not in named), None)
        if more_left is not None:
            raise ChangeError(intent.name, f"{TRIED} {more_left.text!r} is left over: {more_left.reason}")
        kept = {each.identity for each in held}
        known = {_named(each) for each in before.differences}
        entangled = [fact for _, one in self._read for fact in one.entangled]
        left, more = [], []
        gaps = compared(intent, capture)[1] if unchanged is None else unchanged
        known_to_matter: set[tuple[object, ...]] = set()
        if any(each.difference.change == "moved" for each in gaps):
            # What moves only beside lines that were not understood: no packet notices as far as anybody can tell.
            alone = compared(intent, replace(capture, leftovers=()))[1]
            known_to_matter = {_named(each.difference) for each in alone if each.difference.effect != "no-effect"}
        for gap in gaps:
            one = gap.difference
            if one.section in apart or one.effect == "no-effect" or (one.identity in kept and _named(one) in known):
                continue
            if gap.wanted is None and _stands_with(gap.found, entangled):
                more.append(Held.of(one, ENTANGLED, firm=True))
            elif one.change == "moved" and (gap.implied or _named(one) not in known_to_matter):
                more.append(Held.of(one, IN_ORDER if gap.implied else PLACE_ONLY, firm=True))
            else:
                left.append(gap)
        return left, more

    def _lose_nothing(self, device: str, read: Iterable[Reading]) -> None:
        """Make sure that every line that was not understood is still there, in the same order."""
        was, now = (
            [(each.place.file, each.text) for one in several for each in one.leftovers]
            for several in ([one for _, one in self._read], read)
        )
        if was != now:
            lost = next((each for each in was if each not in now), None)
            what = f"{lost[0]}: {lost[1]!r} is lost" if lost else "lines that were not understood would move"
            raise ChangeError(device, f"{TRIED} {what}")

    def _lose_no_line_of(self, device: str, leftovers: Iterable[Leftover]) -> None:
        """Make sure that the lines still stand of which it follows from several texts that they are left over."""
        seen = {(each.place.file, each.text) for _, one in self._read for each in one.leftovers}
        for each in leftovers:
            file, line = each.place.file, each.place.line
            if (file, each.text) in seen:
                continue
            was, now = (lines_of(texts.get(file, "")) for texts in (self._before, self.texts))
            if 0 < line <= len(was) and now.count(was[line - 1]) < was.count(was[line - 1]):
                raise ChangeError(device, f"{TRIED} {file}: {was[line - 1].strip()!r} is lost")

    def _readings(self, dialects: list[Dialect]) -> Iterator[Reading]:
        """Yield what is read of all texts; what a running system was changed to takes the place of what was seen."""
        for file, text in self.texts.items():
            for one in readings(dialects, text, file) if text else ():
                yield replace(one, facts={}, absent=()) if one.dialect in self._running else one
        for one in self._running.values():
            yield replace(one, sections=frozenset(), leftovers=())


def _stands_with(one: object, entangled: Sequence[Fact]) -> bool:
    """Tell whether something is a fact that cannot go by itself, or an interface that has such an address."""
    if not isinstance(one, Interface):
        return one in entangled
    return any(AddressFact(one.name, each) in entangled for each in one.addresses)


def _named(one: Difference) -> tuple[object, ...]:
    return one.change, one.identity, one.fields
