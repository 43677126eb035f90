"""The same work for many devices: on all cores or on a cluster, and only for those of which something has changed.

Work is a function of a module, since other processes have to find it; it gets a device, its captured texts and the
catalogue, and what it returns can be pickled. What comes back is in the order of the devices, however it was shared.

    >>> from agile_lattice.fleet import compared, for_each
    >>> list(for_each(compared, [(device, texts), ...], jobs=4))        # doctest: +SKIP
"""

from agile_lattice.fleet.sharing import for_each
from agile_lattice.fleet.store import Store, usual_store
from agile_lattice.fleet.tasks import Captured, Failed, Texts
from agile_lattice.fleet.work import compared, mended, proven, rendered

__all__ = [
    "Captured", "Failed", "Store", "Texts", "compared", "for_each", "mended", "proven", "rendered", "usual_store",
]  # fmt: skip
