"""Checks of single values, made while an intent is loaded."""

from agile_lattice.checks.registry import check_while_loading
from agile_lattice.intent.masks import BadMask, NoLength

check_while_loading(
    NoLength.slug,
    "An address alone does not say which neighbours are on its link, and systems guess differently: by the old"
    " classes, as a single host, or as the whole network.",
    wrong="interfaces: {lan0: {address: 10.40.10.1}}",
    right="interfaces: {lan0: {address: 10.40.10.1/24}}",
)
check_while_loading(
    BadMask.slug,
    "A mask whose one bits are not contiguous is a typing error, and some systems take it all the same.",
    wrong="interfaces: {lan0: {address: 10.40.10.1/255.255.0.255}}",
    right="interfaces: {lan0: {address: 10.40.10.1/255.255.255.0}}",
)
