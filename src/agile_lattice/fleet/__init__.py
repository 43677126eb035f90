"""The same work for many devices: on all cores or on a cluster, and only for those of which something has changed.

Work is a function of a module, since other processes have to find it; it gets a device, its captured texts and the
catalogue, and what it returns can be pickled. What comes back is in the order of the devices, however it was shared.

    >>> from agile_lattice.fleet import checked, compared, for_each, load_large, usual_store
    >>> fleet = load_large("intent", usual_store(), jobs=4)             # doctest: +SKIP
    >>> checked(fleet, jobs=4, store=usual_store())                     # doctest: +SKIP
    >>> list(for_each(compared, [(device, texts), ...], jobs=4))        # doctest: +SKIP
"""

from typing import TYPE_CHECKING

from agile_lattice.lazy import imported_when_used

if TYPE_CHECKING:
    from agile_lattice.fleet.checking import checked
    from agile_lattice.fleet.intents import Fleet, load_large
    from agile_lattice.fleet.packed import Packed
    from agile_lattice.fleet.sharing import for_each
    from agile_lattice.fleet.store import Store, usual_store
    from agile_lattice.fleet.tasks import Captured, Failed, Texts
    from agile_lattice.fleet.work import compared, mended, proven, rendered

__all__ = [
    "Captured", "Failed", "Fleet", "Packed", "Store", "Texts", "checked", "compared", "for_each", "load_large",
    "mended", "proven", "rendered", "usual_store",
]  # fmt: skip

__getattr__ = imported_when_used(
    __name__,
    {
        "Captured": "tasks.Captured",
        "Failed": "tasks.Failed",
        "Fleet": "intents.Fleet",
        "Packed": "packed.Packed",
        "Store": "store.Store",
        "Texts": "tasks.Texts",
        "checked": "checking.checked",
        "compared": "work.compared",
        "for_each": "sharing.for_each",
        "load_large": "intents.load_large",
        "mended": "work.mended",
        "proven": "work.proven",
        "rendered": "work.rendered",
        "usual_store": "store.usual_store",
    },
)
