"""Intent files, one or a folder of them, as a `Network`.

`load` is the way in. Each file is parsed (`located`), held against its shape (`shapes`)
and, all of them together, resolved (`resolving`). Nothing is loaded by halves: all
faults of a step are reported together, and then the load ends.
"""

from __future__ import annotations

from pathlib import Path

from pydantic import ValidationError

from agile_lattice.intent.model import Network
from agile_lattice.intent.places import Place
from agile_lattice.notation.collector import paused_collector
from agile_lattice.notation.errors import NotationError, fail
from agile_lattice.notation.located import parse, read_text
from agile_lattice.notation.resolving import Source, resolve
from agile_lattice.notation.shape_faults import VERSION_HINT, shape_faults
from agile_lattice.notation.shapes import IntentShape

SUFFIXES = (".yaml", ".yml", ".json")


def load(path: str | Path) -> Network:
    """Read an intent.

    Args:
        path: A YAML or JSON file, or a folder whose `*.yaml`, `*.yml` and `*.json` files make up one intent.

    Returns:
        The network; every value in it knows its file and line.

    Raises:
        NotationError: With everything that is wrong, each with its place.
    """
    sources = []
    errors: list[NotationError] = []
    with paused_collector():
        for file in intent_files(Path(path)):
            try:
                sources.append(shaped(read_text(file), str(file)))
            except NotationError as error:
                errors.append(error)
        if errors:
            faults = [fault for error in errors for fault in error.faults]
            raise NotationError(faults, whole=all(error.whole for error in errors))
        return resolve(sources)


def loads(text: str, file: str = "intent.yaml") -> Network:
    """Read an intent from text; `file` is the name that places carry. Raises as `load` does."""
    return resolve([shaped(text, file)])


def intent_files(path: Path) -> list[Path]:
    """Return the files that make up an intent: one, or those of a folder in order.

    Raises:
        NotationError: If there is none in the folder.
    """
    if not path.is_dir():
        return [path]
    files = sorted(file for file in path.iterdir() if file.suffix in SUFFIXES and file.is_file())
    if not files:
        raise fail(Place(str(path)), "the folder holds no intent file", "Intent files end in .yaml, .yml or .json.")
    return files


def shaped(text: str, file: str) -> Source:
    """Read one of the texts of an intent, held against its shape; `file` is its name. Raises as `load` does."""
    data, place = parse(text, file)
    if not isinstance(data, dict):
        raise fail(place, "this is not an intent: expected keys such as `devices:`", VERSION_HINT)
    try:
        return Source(IntentShape.model_validate(data), place)
    except ValidationError as error:
        raise shape_faults(error, place) from None
