"""Files of definitions that a text includes: what they define stands in the line that includes them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from fnmatch import fnmatchcase
from functools import partial
from pathlib import PurePath

from agile_lattice.dialects.dialect import Dialect, Form
from agile_lattice.dialects.errors import CaptureError

INCLUDING = re.compile(r'^[ \t]*include[ \t]+"(?P<path>[^"\n]+)"[ \t]*;?', re.MULTILINE)


def with_definitions(dialects: Sequence[Dialect], texts: Iterable[tuple[str, str]]) -> list[tuple[str, str]]:
    """Return texts with the definitions that they include; a file that only defines is no text of its own then.

    Args:
        dialects: Those that the texts may be in.
        texts: File name and text of each.
    """
    texts = list(texts)
    forms = [form for dialect in dialects for form in dialect.forms if form.expand.define]
    if not forms or not any(INCLUDING.search(text) for _, text in texts):
        return texts
    defining = {file: said for file, text in texts if (said := _definitions(forms[0], file, text))}
    patterns = {PurePath(each["path"]).name for _, text in texts for each in INCLUDING.finditer(text)}
    found = []
    for file, text in texts:
        others = [each for each, _ in texts if each != file]
        if file not in defining:
            found.append((file, INCLUDING.sub(partial(_in_place, others, defining), text)))
        elif not any(fnmatchcase(PurePath(file).name, each) for each in patterns):
            found.append((file, text))
    return found


def _in_place(files: Sequence[str], defining: Mapping[str, str], found: re.Match[str]) -> str:
    """Return what stands in the place of a line that includes files: what they define, or the line."""
    named = [each for each in files if fnmatchcase(PurePath(each).name, PurePath(found["path"]).name)]
    here = [defining[each] for each in named if each in defining]
    return "; ".join([*here, *([found[0]] if len(here) < len(named) or not here else [])])


def _definitions(form: Form, file: str, text: str) -> str:
    """Return what a text defines, in one line; nothing if it says anything else."""
    try:
        statements = form.surface.parse(text, file)
    except CaptureError:
        return ""
    if any(each.children is not None or not each.text.startswith(f"{form.expand.define} ") for each in statements):
        return ""
    return "; ".join(each.text for each in statements)
