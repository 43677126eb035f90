"""Rule lists as they grow in life, and the same written otherwise: what the comparison benchmarks and tests run on."""

from __future__ import annotations

from random import Random

from agile_lattice.packets.actions import Action
from agile_lattice.packets.functions import Entry
from agile_lattice.packets.spans import Spans

ANY = (((0, 7),), ((0, 7),), ((0, 255),), ((0, 2**32 - 1),), ((0, 2**32 - 1),), ((0, 65535),))
ARRIVES, LEAVES, PROTOCOL, SOURCE, DESTINATION, PORT = range(6)
WIDTHS = (3, 3, 8, 32, 32, 16)
KEEP = Action("on")
TCP, UDP = 6, 17


def entry(action: Action, **spans: Spans) -> Entry:
    """Return an entry that says something of some dimensions."""
    names = ("arrives", "leaves", "protocol", "source", "destination", "port")
    return Entry(tuple(spans.get(name, whole) for name, whole in zip(names, ANY, strict=True)), action)


def one(number: int) -> Spans:
    """Return a single number."""
    return ((number, number),)


def prefix(value: int, length: int) -> Spans:
    """Return the addresses of a prefix."""
    size = 1 << (32 - length)
    first = value - value % size
    return ((first, first + size - 1),)


def generated(count: int, seed: int = 1) -> list[Entry]:
    """Return a list: exemptions, published ports, source rules, general rules, and the rest stays as it is."""
    chance = Random(seed)
    exempt, published, sources = count * 15 // 100, count * 55 // 100, count * 25 // 100
    found = []
    for n in range(exempt):
        near, far = 0x0A000000 + n * 256, 0xAC100000 + chance.randrange(4096) * 256
        found.append(entry(KEEP, leaves=one(0), source=prefix(near, 24), destination=prefix(far, 24)))
    for n in range(published):
        public, inside = 0xC6120000 + n // 3, 0x0A800000 + n
        low = chance.choice([80, 443, 8000 + n % 500, 5060])
        port = ((low + n % 3 * 1000, low + n % 3 * 1000 + chance.choice([0, 0, 0, 9])),)
        sets: tuple[tuple[int, int], ...] = ((DESTINATION, inside),)
        if chance.random() < 0.3 and port[0][0] == port[0][1]:
            sets = (*sets, (PORT, 8443))
        found.append(entry(Action("on", sets), arrives=one(0), protocol=one(chance.choice([TCP, TCP, UDP])),
                           destination=one(public), port=port))  # fmt: skip
    for n in range(sources):
        pool = 0xCB007100 + n % 200
        found.append(entry(Action(("pool", pool)), leaves=one(0), source=prefix(0x0A000000 + n * 64, 26)))
    for n in range(count - exempt - published - sources):
        action = Action(("pool", 0xC6336400 + n % 250))
        found.append(entry(action, leaves=one(n % 4), source=prefix(0x0A000000 + (n % 1024 << 14), 18)))
    return [*found, entry(KEEP)]


def rewritten(entries: list[Entry], seed: int = 2) -> list[Entry]:
    """Return a list that treats every packet the same, written by somebody else.

    Prefixes and port ranges are split, published ports stand in another order, some entries are said twice, and
    one-to-one rewriting is written as a shift.
    """
    chance = Random(seed)
    published = [each for each in entries if each.box[ARRIVES] == one(0)]
    others = [each for each in entries if each.box[ARRIVES] != one(0)]
    chance.shuffle(published)
    start = next((at for at, each in enumerate(others) if each.action != KEEP), 0)
    found: list[Entry] = []
    for each in (*others[:start], *published, *others[start:-1]):
        found += _otherwise(each, chance)
        if chance.random() < 0.02:
            found.append(each)  # once more, and nothing comes so far
    return [*found, others[-1]]


def _otherwise(each: Entry, chance: Random) -> list[Entry]:
    action = each.action
    (low, high) = each.box[DESTINATION][0]
    if low == high and action.sets and chance.random() < 0.2:
        rest = tuple(pair for pair in action.sets if pair[0] != DESTINATION)
        action = Action(action.verdict, rest, ((DESTINATION, dict(action.sets)[DESTINATION] - low),))
    at = SOURCE if each.box[SOURCE] != ANY[SOURCE] else PORT
    (low, high) = each.box[at][0]
    if low < high and chance.random() < 0.2:
        middle = (low + high) // 2
        halves = [((low, middle),), ((middle + 1, high),)]
        return [Entry((*each.box[:at], half, *each.box[at + 1 :]), action) for half in halves]
    return [Entry(each.box, action)]


def changed(entries: list[Entry], changes: int = 10, seed: int = 3) -> list[Entry]:
    """Return a list with some real changes: entries taken away, entries that send elsewhere, entries moved."""
    chance = Random(seed)
    found = list(entries)
    for n in range(changes):
        at = chance.randrange(len(found) - 1)
        if n % 3 == 0:
            del found[at]
        elif n % 3 == 1:
            found[at] = Entry(found[at].box, Action("drop"))
        else:
            found.insert(0, found.pop(at))
    return found
