"""The same work for many devices: on all cores or on a cluster, and only for those of which something has changed.

Work is a function of a module, since other processes have to find it; it gets a device, its captured texts and the
catalogue, and what it returns can be pickled. What comes back is in the order of the devices, however it was shared.

    >>> from agile_lattice.fleet import checked, compared, for_each, load_large, usual_store
    >>> fleet = load_large("intent", usual_store(), jobs=4)             # doctest: +SKIP
    >>> checked(fleet, jobs=4, store=usual_store())                     # doctest: +SKIP
    >>> list(for_each(compared, [(device, texts), ...], jobs=4))        # doctest: +SKIP
"""

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
