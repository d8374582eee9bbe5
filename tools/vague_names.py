"""How many of the names that are bound do not say what they hold: `python -m tools.vague_names`.

A name is bound by an assignment, a loop, a `with`, a parameter, a comprehension or a function. Only
whole names count: `kept_rows` says what it holds, `kept` does not. With a package or file as its
argument it lists the places.
"""

from __future__ import annotations

import ast
import sys
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

ROOT = Path(__file__).parent.parent
PLACES = ("core", "store", "service", "agent", "client", "cli", "demo")
VAGUE = frozenset(
    [
        "said", "of", "asked", "kept", "wanted", "came", "known", "given", "found", "told", "one",
        "thing", "things", "the", "went", "gone", "got", "taken", "whose", "whom", "it", "them",
        "these", "those", "this", "that", "what",
    ]
)  # fmt: skip


def bound_names(tree: ast.AST) -> Iterator[tuple[str, int]]:
    """(name, line) of every name that a module binds."""
    for node in ast.walk(tree):
        match node:
            case ast.Name(id=name, ctx=ast.Store()):
                yield name, node.lineno
            case ast.arg(arg=name):
                yield name, node.lineno
            case ast.FunctionDef(name=name) | ast.AsyncFunctionDef(name=name):
                yield name.strip("_"), node.lineno
            case ast.Attribute(attr=name, ctx=ast.Store()):
                yield name.strip("_"), node.lineno
            case ast.ExceptHandler(name=str(name)):
                yield name, node.lineno


def counted(folder: Path) -> tuple[int, Counter[str], list[tuple[Path, int, str]]]:
    """(names bound, vague ones by name, where they are) below a folder or in a file."""
    total, vague, places = 0, Counter[str](), []
    files = [folder] if folder.is_file() else sorted(folder.rglob("*.py"))
    for path in files:
        if "aio" in path.parts:
            continue
        for name, line in bound_names(ast.parse(path.read_text("utf-8"))):
            total += 1
            if name.strip("_") in VAGUE:
                vague[name] += 1
                places.append((path, line, name))
    return total, vague, places


def main() -> None:
    if len(sys.argv) > 1:
        for path, line, name in counted(Path(sys.argv[1]))[2]:
            print(f"{path}:{line}: {name}")
        return
    for folder in (*(ROOT / "src/phylax" / place for place in PLACES), ROOT / "tests"):
        total, vague, _ = counted(folder)
        share = 100 * vague.total() / total if total else 0
        most = ", ".join(f"{name} {count}" for name, count in vague.most_common(8))
        print(f"{folder.name:8} {vague.total():5} of {total:6} {share:5.1f} %  {most}")


if __name__ == "__main__":
    main()
