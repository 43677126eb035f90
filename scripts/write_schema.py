"""Write the JSON Schema that ships with the package; a test sees to it that it is current."""

from __future__ import annotations

import json
from pathlib import Path

from agile_lattice.notation import shapes

TARGET = Path(shapes.__file__).parent / "intent.schema.json"

if __name__ == "__main__":
    TARGET.write_text(json.dumps(shapes.json_schema(), indent=2) + "\n", encoding="utf-8")
