"""The pages that are filled in: HTML escapes what it is given, Markdown is not HTML."""

from __future__ import annotations

from jinja2 import Environment, PackageLoader, StrictUndefined, Template


def template(name: str) -> Template:
    """Return a page of the folder `pages` by its name."""
    pages = Environment(
        loader=PackageLoader("agile_lattice.show", "pages"), autoescape=name.endswith(".html"),
        undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True,
    )  # fmt: skip
    return pages.get_template(name)
