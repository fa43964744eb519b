"""Draws docs/architecture.svg: the packages by their layers, out of the import contract and of the
imports that there are, and beside them the way of a block.

    python scripts/draw_architecture.py
"""

from __future__ import annotations

import ast
import tomllib
from collections import Counter
from collections.abc import Iterator
from html import escape
from pathlib import Path

ROOT = Path(__file__).parents[1]
PICTURE = ROOT / "docs" / "architecture.svg"
SOURCE = ROOT / "src" / "mukret"

WIDTH, MARGIN, TOP = 1160, 24, 92
ROW, BOX_HEIGHT, GAP = 44, 30, 18
LAYERS_WIDTH = 800
SURFACE, INK, QUIET = "#ffffff", "#17302f", "#5b7472"
LINE, BOX, ON_THE_WAY = "#c9d6d4", "#eef4f3", "#cfe6e2"

# Packages by what they are about, in the columns of the picture.
COLUMNS = {
    "responses": ("collect", "survey", "documents", "scan", "values", "locks"),
    "drafts, descriptions": ("drafting", "describe", "inspect", "text"),
    "what rules mean": (
        "cli",
        "semantics",
        "rules",
        "expressions",
        "types",
        "paths",
        "errors",
    ),
    "running them": ("spark", "parts", "engine", "plan", "columns", "codes"),
    "deliveries": ("report", "delivered", "destinations"),
}
# What nearly all packages use: lines to these would say nothing.
EVERYWHERE = ("codes", "errors", "text", "values", "locks")
MOST_LINES = 2

# What a block becomes on its way, and what makes the next thing of it.
WAY = (
    ("bytes", "documents: read_blocks"),
    ("Block", "engine, by scan: Scanning.batch"),
    ("Batch: rows and cells", "engine: find_rows"),
    ("FoundRows", "engine, by columns: evaluated"),
    ("EvaluatedRows", "engine: decided"),
    ("DecidedRows", "engine: Run.output"),
    ("Output: record batches", "destinations: deliver"),
    ("files, databases", ""),
)
WALKED = ("documents", "scan", "engine", "columns", "destinations")


def layers() -> list[list[str]]:
    """The packages of each layer of the import contract, those that know most first."""
    settings = tomllib.loads((ROOT / "pyproject.toml").read_text(encoding="utf-8"))
    contract = settings["tool"]["importlinter"]["contracts"][0]
    return [
        [name.strip().removeprefix("mukret.") for name in layer.split("|")]
        for layer in contract["layers"]
    ]


def package_of(module: str) -> str | None:
    """`mukret.rules.model` → rules; None for anything from elsewhere."""
    parts = module.split(".")
    return parts[1] if parts[0] == "mukret" and len(parts) > 1 else None


def imports() -> Counter[tuple[str, str]]:
    """How many modules of one package import another one."""
    counts: Counter[tuple[str, str]] = Counter()
    for path in sorted(SOURCE.rglob("*.py")):
        own = path.relative_to(SOURCE).parts[0].removesuffix(".py")
        tree = ast.parse(path.read_text(encoding="utf-8"))
        used = {package_of(module) for module in modules_of(tree)} - {None, own}
        counts.update((own, str(package)) for package in used)
    return counts


def modules_of(tree: ast.AST) -> Iterator[str]:
    for node in ast.walk(tree):
        if isinstance(node, ast.ImportFrom) and node.module:
            yield node.module
        elif isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)


def places(rows: list[list[str]]) -> dict[str, tuple[float, float, float]]:
    """Left, top and width of the box of each package: its column by what it is about, its height
    by its layer.
    """
    boxes: dict[str, tuple[float, float, float]] = {}
    width = (LAYERS_WIDTH - GAP * (len(COLUMNS) - 1)) / len(COLUMNS)
    for number, names in enumerate(rows):
        for name in names:
            column = next(
                n for n, column in enumerate(COLUMNS.values()) if name in column
            )
            left = MARGIN + column * (width + GAP)
            boxes[name] = (left, TOP + number * ROW, width)
    return boxes


def columns_of(
    boxes: dict[str, tuple[float, float, float]],
) -> list[tuple[float, float, float]]:
    return [boxes[names[0]] for names in COLUMNS.values()]


def text(x: float, y: float, words: str, *, size: int = 13, more: str = "") -> str:
    return f'<text x="{x:.0f}" y="{y:.0f}" font-size="{size}" {more}>{escape(words)}</text>'


def picture() -> str:
    rows = layers()
    boxes = places(rows)
    used = imports()
    height = TOP + len(rows) * ROW + MARGIN
    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDTH} {height}" '
        f'font-family="system-ui, sans-serif" fill="{INK}">',
        f'<rect width="{WIDTH}" height="{height}" fill="{SURFACE}"/>',
        text(
            MARGIN,
            34,
            "Packages: each knows only those below it (its two closest are shown)",
            size=17,
        ),
        text(880, 34, "The way of a block", size=17),
    ]
    for name, (left, _, width) in zip(COLUMNS, columns_of(boxes), strict=True):
        more = f'text-anchor="middle" fill="{QUIET}"'
        parts.append(text(left + width / 2, 72, name, size=12, more=more))
    parts += lines(boxes, used)
    for name, (left, top, width) in boxes.items():
        colour = ON_THE_WAY if name in WALKED else BOX
        parts.append(
            f'<rect x="{left:.0f}" y="{top}" width="{width:.0f}" height="{BOX_HEIGHT}" '
            f'rx="5" fill="{colour}" stroke="{LINE}"/>'
        )
        middle = 'text-anchor="middle"'
        parts.append(text(left + width / 2, top + 20, name, more=middle))
    parts += way(height)
    return "\n".join([*parts, "</svg>"]) + "\n"


def lines(
    boxes: dict[str, tuple[float, float, float]], used: Counter[tuple[str, str]]
) -> Iterator[str]:
    """A line from each package to those that most of its modules import."""
    for own in boxes:
        others = [
            (count, other)
            for (package, other), count in used.items()
            if package == own and other in boxes and other not in EVERYWHERE
        ]
        for _, other in sorted(others, reverse=True)[:MOST_LINES]:
            left, top, width = boxes[own]
            left_below, top_below, width_below = boxes[other]
            start, end = left + width / 2, left_below + width_below / 2
            bend = (top + BOX_HEIGHT + top_below) / 2
            yield (
                f'<path d="M {start:.0f} {top + BOX_HEIGHT} C {start:.0f} {bend:.0f}, '
                f'{end:.0f} {bend:.0f}, {end:.0f} {top_below}" fill="none" '
                f'stroke="{LINE}" stroke-width="1.5"/>'
            )


def way(height: float) -> Iterator[str]:
    """The steps downwards, each with what makes the next one."""
    step = (height - TOP - MARGIN) / len(WAY)
    for number, (name, maker) in enumerate(WAY):
        top = TOP + number * step
        yield (
            f'<rect x="880" y="{top:.0f}" width="256" height="{BOX_HEIGHT}" rx="5" '
            f'fill="{ON_THE_WAY}" stroke="{LINE}"/>'
        )
        yield text(894, top + 20, name)
        if maker:
            words = f"↓  {maker}"
            more = f'fill="{QUIET}"'
            yield text(894, top + BOX_HEIGHT + 24, words, size=12, more=more)


if __name__ == "__main__":
    PICTURE.write_text(picture(), encoding="utf-8")
