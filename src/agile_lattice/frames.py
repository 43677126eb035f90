"""What a network has, and what was found out about it, as pandas data frames.

Values are as an intent file spells them; `place` is file and line. Every frame has its columns even if it has no rows.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any

from agile_lattice.checks import Finding
from agile_lattice.compare.differences import Comparison
from agile_lattice.intent.model import Network
from agile_lattice.intent.translations import described
from agile_lattice.notation.plain import interface_data, route_data, translation_data

if TYPE_CHECKING:
    from pandas import DataFrame

Row = dict[str, Any]


def interfaces(network: Network) -> DataFrame:
    """Return a row for every interface."""
    columns = ("device", "interface", "zone", "address", "loopback", "vlan", "mtu", "description", "place")
    return _frame(columns, (
        {"device": device.name, "interface": one.name, "place": str(one.place), **interface_data(one), "zone": one.zone}
        for device in network.devices for one in device.interfaces
    ))  # fmt: skip


def addresses(network: Network) -> DataFrame:
    """Return a row for every own address of a device."""
    columns = ("device", "interface", "zone", "family", "address", "subnet", "place")
    return _frame(columns, (
        {"device": device.name, "interface": one.name, "zone": one.zone, "family": own.family, "address": str(own),
         "subnet": str(own.network), "place": str(one.place_of(index))}
        for device in network.devices for one in device.interfaces for index, own in enumerate(one.addresses)
    ))  # fmt: skip


def routes(network: Network) -> DataFrame:
    """Return a row for every static route."""
    columns = ("device", "to", "via", "interface", "discard", "distance", "metric", "instance", "place")
    return _frame(columns, (
        {"device": device.name, "place": str(one.place), **route_data(one, device), "distance": one.distance}
        for device in network.devices for one in device.routes
    ))  # fmt: skip


def translations(network: Network) -> DataFrame:
    """Return a row for every translation, in order; its columns are the keys of the notation."""
    columns = ("device", "position", "translation", "place")
    return _frame(columns, (
        {"device": device.name, "position": position, "translation": described(one), "place": str(one.place),
         **translation_data(one)}
        for device in network.devices for position, one in enumerate(device.translations, 1)
    ))  # fmt: skip


def findings(found: Sequence[Finding]) -> DataFrame:
    """Return a row for every finding of `check`."""
    columns = ("slug", "severity", "subject", "what", "remedy", "accepted", "place")
    return _frame(columns, ({name: _text(getattr(one, name)) for name in columns} for one in found))


def differences(compared: Iterable[Comparison]) -> DataFrame:
    """Return a row for every difference of some devices."""
    columns = ("device", "section", "subject", "change", "effect", "note", "witness", "intent", "there")
    return _frame(columns, (
        {"device": each.device, "section": one.section, "subject": one.subject, "change": one.change,
         "effect": one.effect, "note": one.note, "witness": str(one.witness.header) if one.witness else "",
         "intent": str(one.intent), "there": str(one.device)}
        for each in compared for one in each.differences
    ))  # fmt: skip


def _frame(columns: Sequence[str], rows: Iterable[Row]) -> DataFrame:
    """Return rows under the columns that are always there, and those that some row has besides."""
    from pandas import DataFrame  # a heavy import, and only wanted here

    rows = list(rows)
    more = dict.fromkeys(name for row in rows for name in row if name not in columns)
    return DataFrame([{name: _text(row.get(name, "")) for name in (*columns, *more)} for row in rows],
                     columns=[*columns, *more])  # fmt: skip


def _text(value: Any) -> Any:
    """Return a value as a cell: numbers and truth as they are, lists and mappings joined, the rest as text."""
    if isinstance(value, bool | int | str):
        return value
    if isinstance(value, dict):
        return ", ".join(f"{key} {_text(each)}" for key, each in value.items())
    return ", ".join(map(str, value)) if isinstance(value, list | tuple) else str(value)
