"""Write the asynchronous client from the synchronous one: src/phylax/client/_aio.

The same classes, methods and words, awaited. Run by `make contract`; a test compares them.
"""

from __future__ import annotations

import ast
import subprocess
import sys
from pathlib import Path

CLIENT = Path(__file__).parent.parent / "src/phylax/client"
FAMILIES = CLIENT / "families"
TO = CLIENT / "aio"
_SENT = {"get", "post", "put", "delete", "send", "upload", "download", "first"}
_RENAMED = {"Http": "AsyncHttp", "Phylax": "AsyncPhylax", "Iterator": "AsyncIterator"}


def modules() -> list[str]:
    """Names of the synchronous modules that have an asynchronous twin."""
    return sorted(path.stem for path in FAMILIES.glob("[a-z]*.py"))


class _Awaited(ast.NodeTransformer):
    """One class or function of the client, rewritten."""

    def __init__(self, awaited: set[str], paged: set[str], connection: set[str]) -> None:
        self.awaited, self.paged, self.connection = awaited, paged, connection

    def is_awaited(self, call: ast.AST) -> bool:
        if not isinstance(call, ast.Call):
            return False
        if ast.unparse(call.func) == "time.sleep":
            return True
        if not isinstance(call.func, ast.Attribute):
            return False
        owner, name = ast.unparse(call.func.value), call.func.attr
        return (owner in self.connection and name in _SENT) or (
            owner == "self" and name in self.awaited
        )

    def is_paged(self, call: ast.AST) -> bool:
        if not (isinstance(call, ast.Call) and isinstance(call.func, ast.Attribute)):
            return False
        owner, name = ast.unparse(call.func.value), call.func.attr
        return (owner in self.connection and name == "pages") or (
            owner == "self" and name in self.paged
        )

    def visit_Call(self, node: ast.Call) -> ast.AST:
        awaited = self.is_awaited(node)
        self.generic_visit(node)
        if ast.unparse(node.func) == "time.sleep":
            node.func = ast.parse("asyncio.sleep", mode="eval").body
        return ast.Await(node) if awaited else node

    def visit_FunctionDef(self, node: ast.FunctionDef) -> ast.AST:
        is_async = node.name in self.awaited or (
            node.name in self.paged and any(isinstance(n, (ast.Yield, ast.YieldFrom))
                                            for n in ast.walk(node))
        )  # fmt: skip
        self.generic_visit(node)
        if not is_async:
            return node
        return ast.AsyncFunctionDef(**{name: getattr(node, name) for name in node._fields})

    def visit_For(self, node: ast.For) -> ast.AST:
        paged = self.is_paged(node.iter)
        self.generic_visit(node)
        return ast.AsyncFor(node.target, node.iter, node.body, node.orelse) if paged else node

    def visit_Expr(self, node: ast.Expr) -> ast.AST:
        if not isinstance(node.value, ast.YieldFrom):
            self.generic_visit(node)
            return node
        paged = self.is_paged(node.value.value)
        source = self.visit(node.value.value)
        element = ast.Name("element", ast.Store())
        body: list[ast.stmt] = [ast.Expr(ast.Yield(ast.Name("element", ast.Load())))]
        return (ast.AsyncFor if paged else ast.For)(element, source, body, [])

    def visit_With(self, node: ast.With) -> ast.AST:
        opens = any(ast.unparse(item.context_expr).startswith("Http(") for item in node.items)
        self.generic_visit(node)
        return ast.AsyncWith(node.items, node.body) if opens else node

    def visit_Name(self, node: ast.Name) -> ast.AST:
        node.id = _RENAMED.get(node.id, node.id)
        return node


def _calls(function: ast.FunctionDef, awaiting: _Awaited) -> bool:
    return any(awaiting.is_awaited(node) for node in ast.walk(function))


def _is_iterator(annotation: ast.expr) -> bool:
    return ast.unparse(annotation).startswith("Iterator")


def _rewritten(body: ast.ClassDef | ast.FunctionDef, connection: set[str]) -> ast.AST:
    """A class, or a function beside classes."""
    functions = [n for n in ast.walk(body) if isinstance(n, ast.FunctionDef)]
    paged = {
        f.name for f in functions if f.returns and ast.unparse(f.returns).startswith("Iterator")
    }
    awaited: set[str] = set()
    while True:
        awaiting = _Awaited(awaited, paged, connection)
        further = {f.name for f in functions if f.name not in paged and _calls(f, awaiting)}
        if further <= awaited:
            break
        awaited |= further
    if isinstance(body, ast.ClassDef):
        body.name = _RENAMED.get(body.name, body.name)
    return awaiting.visit(body)  # type: ignore[no-any-return]


def _import(node: ast.ImportFrom) -> ast.ImportFrom:
    module = node.module or ""
    if module == "phylax.client.transport.http":
        node.module = "phylax.client.transport.async_http"
    elif module.startswith("phylax.client.families."):
        node.module = module.replace("phylax.client.families.", "phylax.client.aio.")
    for name in node.names:
        name.name = _RENAMED.get(name.name, name.name)
    return node


def text_of(name: str) -> str:
    """The asynchronous twin of a module, as it is kept."""
    tree = ast.parse((FAMILIES / f"{name}.py").read_text("utf-8"))
    for place, node in enumerate(tree.body):
        if isinstance(node, ast.ImportFrom):
            tree.body[place] = _import(node)
        elif isinstance(node, ast.ClassDef):
            own = any(ast.unparse(base) == "Http" for base in node.bases)
            tree.body[place] = _rewritten(node, {"self"} if own else {"self._http"})  # type: ignore[call-overload]
        elif isinstance(node, ast.FunctionDef):
            tree.body[place] = _rewritten(node, {"http"})  # type: ignore[call-overload]
    source = ast.unparse(ast.fix_missing_locations(tree))
    if "asyncio.sleep" in source:
        source = source.replace("\nimport time\n", "\nimport asyncio\nimport time\n", 1)
    origin = f"client/families/{name}.py"
    head = f"# Written by tools/aio.py from {origin}; change that one.\n# ruff: noqa\n"
    return _formatted(head + source + "\n")


def _formatted(text: str) -> str:
    ruff = [sys.executable, "-m", "ruff", "format", "-q", "--line-length", "100", "-"]
    run = subprocess.run(ruff, input=text, capture_output=True, text=True, check=True)
    return run.stdout


if __name__ == "__main__":
    TO.mkdir(exist_ok=True)
    (TO / "__init__.py").write_text('"""The asynchronous client, written by tools/aio.py."""\n')
    for module in modules():
        (TO / f"{module}.py").write_text(text_of(module), "utf-8")
