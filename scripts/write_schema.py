"""Write the JSON Schemas: of the intent, which ships with the package, and of what `--format json` prints.

A test sees to it that they are current.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from agile_lattice.cli.commands import documents
from agile_lattice.cli.schemas import json_schema
from agile_lattice.notation import shapes

OUTPUTS = Path(__file__).parent.parent / "docs" / "schemas"


def schemas() -> Iterator[tuple[Path, dict[str, Any]]]:
    """Yield every schema, and where it belongs."""
    yield Path(shapes.__file__).parent / "intent.schema.json", shapes.json_schema()
    for document, printed in documents().items():
        yield OUTPUTS / f"{document.replace(' ', '-').replace('--', '')}.schema.json", json_schema(document, printed)


if __name__ == "__main__":
    OUTPUTS.mkdir(exist_ok=True)
    for path, schema in schemas():
        path.write_text(json.dumps(schema, indent=2) + "\n", encoding="utf-8")
