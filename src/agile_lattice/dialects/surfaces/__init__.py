"""Surfaces: how the text of a configuration becomes nested statements, and back.

    lines        one statement a line
    indent       statements nest by indentation, a closing word may end a block
    braces       a line that ends in `{` opens a block, a line `}` closes it; `;` parts statements
    parens       nested parentheses
    sections     sections under a title in brackets, with entries `Key=value`
    paragraphs   paragraphs of `Key: value`, parted by blank lines
    tables       a title, a row of column names, rows of cells
    json, yaml, xml   documents

A dialect file names one by its `kind`; what else it can say about it is in the class.
"""

from agile_lattice.dialects.surfaces.braces import Braces
from agile_lattice.dialects.surfaces.documents import Json, Yaml
from agile_lattice.dialects.surfaces.lines import Indent, Lines
from agile_lattice.dialects.surfaces.nested import Paragraphs, Parens, Sections, Tables
from agile_lattice.dialects.surfaces.statements import ENTRY, Edit, Statement, Surface, lines_of, rewritten
from agile_lattice.dialects.surfaces.weaving import woven
from agile_lattice.dialects.surfaces.xml import Xml

AnySurface = Lines | Indent | Braces | Parens | Sections | Paragraphs | Tables | Json | Yaml | Xml

__all__ = [
    "ENTRY", "AnySurface", "Braces", "Edit", "Indent", "Json", "Lines", "Paragraphs", "Parens",
    "Sections", "Statement", "Surface", "Tables", "Xml", "Yaml", "lines_of", "rewritten", "woven",
]  # fmt: skip
