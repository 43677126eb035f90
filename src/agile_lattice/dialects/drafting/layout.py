"""How a text is laid out, as far as a look at it tells."""

from __future__ import annotations

import re
from collections.abc import Callable

from agile_lattice.dialects.errors import CaptureError
from agile_lattice.dialects.surfaces import Braces, Indent, Json, Lines, Parens, Sections, Statement, Xml

COMMENTS = "#!;*%"


def laid_out(text: str, file: str) -> tuple[str, list[Statement]]:
    """Return the syntax of a text as a dialect file has it, and its statements.

    Raises:
        CaptureError: If the text can be cut into statements in none of the ways that are known.
    """
    lines = [line for line in text.split("\n") if line.strip()]
    comment = "".join(mark for mark in COMMENTS if any(line.lstrip().startswith(mark) for line in lines))
    said = f', comment = "{comment}"' if comment else ""
    ends = sum(line.rstrip().endswith(";") for line in lines) > len(lines) / 3
    end = ', end = ";", close = "}"' if ends else ""
    step = next((line[: len(line) - len(line.lstrip())] for line in lines if line[0].isspace()), "  ")
    ways: list[tuple[bool, str, Callable[[], list[Statement]]]] = [
        (text.lstrip()[:1] in "[{" and text.rstrip()[-1:] in "]}", '{kind = "json"}', lambda: Json().parse(text, file)),
        (text.lstrip().startswith("<"), '{kind = "xml"}', lambda: Xml().parse(text, file)),
        (any(line.rstrip().endswith("{") for line in lines), f'{{kind = "braces"{said}{end}}}',
         lambda: Braces(comment=comment, end=";" if ends else "").parse(text, file)),
        (any(line.startswith("(") for line in lines), f'{{kind = "parens"{said}}}',
         lambda: Parens(comment=comment).parse(text, file)),
        (any(re.fullmatch(r"\[[^\]]+\]", line.strip()) for line in lines), f'{{kind = "sections"{said}}}',
         lambda: Sections(comment=comment).parse(text, file)),
        (any(line[0].isspace() for line in lines), f'{{kind = "indent"{said}, step = "{step}"}}',
         lambda: Indent(comment=comment, step=step).parse(text, file)),
        (True, f'{{kind = "lines"{said}}}', lambda: Lines(comment=comment).parse(text, file)),
    ]  # fmt: skip
    for likely, syntax, parse in ways:
        if likely:
            try:
                return syntax, parse()
            except CaptureError:
                continue
    raise AssertionError("lines can always be cut into statements")
