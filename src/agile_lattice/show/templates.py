"""The pages that are filled in: HTML escapes what it is given, Markdown is not HTML."""

from __future__ import annotations

from functools import cache

from jinja2 import Environment, PackageLoader, StrictUndefined, Template


def template(name: str) -> Template:
    """Return a page of the folder `pages` by its name."""
    return _pages(name.endswith(".html")).get_template(name)


@cache
def _pages(escapes: bool) -> Environment:
    """Return where pages come from, which are compiled once."""
    return Environment(
        loader=PackageLoader("agile_lattice.show", "pages"), autoescape=escapes,
        undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True,
    )  # fmt: skip
