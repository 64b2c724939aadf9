"""Figures of the code, and what binds each: ``python scripts/house.py [--list NAME]``.

Lines are counted as they stand, blank ones and docstrings too. The simulated archive is apart: it follows the rules
of others.
"""

from __future__ import annotations

import argparse
import ast
import sys
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).parents[1] / "src" / "zoompick"
HEAVY = {
    "numpy", "scipy", "pandas", "matplotlib", "tifffile", "imagecodecs", "cv2", "h5py", "pyarrow", "starlette",
    "uvicorn", "jinja2", "xarray", "dask", "distributed", "obstore", "shapely", "pyproj", "PIL", "IPython",
}  # fmt: skip
MOST_LINES, MOST_PARAMETERS = 40, 9


@dataclass(frozen=True)
class Module:
    """One file, read and parsed."""

    path: Path
    text: str
    tree: ast.Module

    @property
    def name(self) -> str:
        """Path below the package."""
        return self.path.relative_to(ROOT).as_posix()


def modules() -> list[Module]:
    """All files without the archive's."""
    found = []
    for path in sorted(ROOT.rglob("*.py")):
        if "standin" not in path.relative_to(ROOT).parts:
            text = path.read_text(encoding="utf-8")
            found.append(Module(path, text, ast.parse(text)))
    return found


Function = ast.FunctionDef | ast.AsyncFunctionDef


def functions(module: Module) -> Iterator[Function]:
    """All functions of a file, those inside others too."""
    return (node for node in ast.walk(module.tree) if isinstance(node, Function))


def long(module: Module) -> Iterator[str]:
    """Functions of too many lines."""
    for node in functions(module):
        count = (node.end_lineno or node.lineno) - node.lineno + 1
        if count > MOST_LINES:
            yield f"{module.name}:{node.lineno} {node.name} {count}"


def wide(module: Module) -> Iterator[str]:
    """Functions of too many parameters."""
    for node in functions(module):
        told = node.args
        names = [one.arg for one in (*told.posonlyargs, *told.args, *told.kwonlyargs)]
        count = len([name for name in names if name not in ("self", "cls")])
        if count > MOST_PARAMETERS:
            yield f"{module.name}:{node.lineno} {node.name} {count}"


def light_imports(module: Module) -> Iterator[str]:
    """Imports inside functions of what is no heavy library; what a product is built with is its declaration's."""
    if module.name.startswith("products/kinds/"):
        return
    for node in functions(module):
        for inner in ast.walk(node):
            if not isinstance(inner, ast.Import | ast.ImportFrom):
                continue
            names = [inner.module or ""] if isinstance(inner, ast.ImportFrom) else [one.name for one in inner.names]
            if any(name.split(".")[0] not in HEAVY for name in names):
                yield f"{module.name}:{inner.lineno} {', '.join(names)}"


def lines_with(module: Module, word: str) -> Iterator[str]:
    """Lines of code where a name stands, imports apart."""
    numbers = {
        node.lineno
        for node in ast.walk(module.tree)
        if isinstance(node, ast.Name) and node.id == word
    }  # fmt: skip
    return (f"{module.name}:{number}" for number in sorted(numbers))


def circles(found: list[Module]) -> Iterator[str]:
    """Groups of files that import each other in a circle, whatever place the import stands at."""
    names = {_dotted(module): module for module in found}
    arrows = {name: set(_imports(module, names)) - {name} for name, module in names.items()}
    reach = {name: _reached(name, arrows) for name in arrows}
    seen: set[str] = set()
    for name in sorted(arrows):
        group = sorted(other for other in reach[name] if name in reach[other])
        if group and name not in seen:
            seen.update(group)
            yield " <-> ".join(sorted({name, *group}))


def _dotted(module: Module) -> str:
    return "zoompick." + module.name.removesuffix(".py").removesuffix("/__init__").replace("/", ".")


def _imports(module: Module, names: dict[str, Module]) -> Iterator[str]:
    for node in ast.walk(module.tree):
        if isinstance(node, ast.ImportFrom) and node.module and not node.level:
            inside = [f"{node.module}.{one.name}" for one in node.names]
            yield from ({name for name in inside if name in names} or {node.module} & set(names))
        elif isinstance(node, ast.Import):
            yield from (one.name for one in node.names if one.name in names)


def _reached(start: str, arrows: dict[str, set[str]]) -> set[str]:
    found: set[str] = set()
    waiting = list(arrows[start])
    while waiting:
        name = waiting.pop()
        if name not in found:
            found.add(name)
            waiting += arrows[name]
    return found


def figures() -> dict[str, tuple[list[str] | int, int]]:
    """Each figure by name: the places or the number, and what it may be at most."""
    found = modules()
    return {
        "lines": (sum(len(module.text.splitlines()) for module in found), 44_500),
        "files": (len(found), 0),
        "long": ([place for module in found for place in long(module)], 12),
        "wide": ([place for module in found for place in wide(module)], 6),
        "light imports": ([place for module in found for place in light_imports(module)], 80),
        "any": ([place for module in found for place in lines_with(module, "Any")], 320),
        "cast": ([place for module in found for place in lines_with(module, "cast")], 0),
        "circles": (list(circles(found)), 0),
    }


def main() -> int:
    """Print the table, or the places of one figure."""
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("--list", choices=sorted(figures()), default="")
    wanted = parser.parse_args().list
    for name, (places, most) in figures().items():
        count = places if isinstance(places, int) else len(places)
        if wanted == name and not isinstance(places, int):
            sys.stdout.write("\n".join(places) + "\n")
        elif not wanted:
            sys.stdout.write(f"{name:<14} {count:>6}" + (f"   at most {most}" if most else "") + "\n")
    return 0


if __name__ == "__main__":
    sys.exit(main())
