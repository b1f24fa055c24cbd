"""How readable the source is, counted: `python tools/readable.py` prints it; `--check` fails where a count is worse
than it was.

A count that got better is written into LIMITS, so that it stays.
"""

import ast
import sys
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

SOURCE = Path(__file__).resolve().parent.parent / "src" / "kovel"
PER_ROOM = ("routes", "views", "__init__", "__main__")  # names that every room may have
BRANCHES = (ast.If, ast.IfExp, ast.For, ast.While, ast.ExceptHandler, ast.comprehension, ast.Assert, ast.match_case)
Function = ast.FunctionDef | ast.AsyncFunctionDef

LIMITS = {  # at most, or at least where it begins with "least"; aimed at are 12, 6, 0, 0 and 90
    "one-letter locals, in a hundred": 4.7,
    "least mean length of a local's name": 6.0,
    "functions over complexity 15": 0,
    "module names used more than once": 0,
    "lines over 120 letters": 0,
    "lines that the formatter is told to leave": 0,
    "least methods with a docstring, in a hundred": 100.0,
}


def functions(tree: ast.AST) -> Iterator[Function]:
    """Every function and method."""
    yield from (node for node in ast.walk(tree) if isinstance(node, Function))


def locals_of(function: Function) -> set[str]:
    """The names that a function binds: its parameters, and what it assigns; not those of functions inside."""
    every = function.args
    names = {a.arg for a in (*every.posonlyargs, *every.args, *every.kwonlyargs) if a.arg not in ("self", "cls")}
    inside = list(function.body)
    while inside:
        node = inside.pop()
        if isinstance(node, (*Function.__args__, ast.ClassDef)):
            continue
        if isinstance(node, ast.Name) and isinstance(node.ctx, ast.Store):
            names.add(node.id)
        inside.extend(ast.iter_child_nodes(node))
    return {n for n in names if n.strip("_")}


def complexity(function: Function) -> int:
    """McCabe's count (1976): one, and one more for each place where it may go another way; `and` and `or` count too."""
    count, inside = 1, list(function.body)
    while inside:
        node = inside.pop()
        if isinstance(node, (*Function.__args__, ast.ClassDef)):
            continue
        count += isinstance(node, BRANCHES)
        count += len(node.values) - 1 if isinstance(node, ast.BoolOp) else 0
        inside.extend(ast.iter_child_nodes(node))
    return count


def counted() -> dict[str, float]:
    """Each of LIMITS as it is now."""
    files = [p for p in SOURCE.rglob("*.py") if "making" not in p.parts]
    names: list[str] = []
    heavy = methods = told = wide = left = 0
    for path in files:
        text = path.read_text()
        wide += sum(len(line) > 120 for line in text.splitlines())
        left += text.count("# fmt" + ":")
        tree = ast.parse(text)
        for function in functions(tree):
            names += locals_of(function)
            heavy += complexity(function) > 15
        for node in ast.walk(tree):
            if isinstance(node, ast.ClassDef):
                own = [x for x in node.body if isinstance(x, Function) and not x.name.startswith("_")]
                methods += len(own)
                told += sum(ast.get_docstring(x) is not None for x in own)
    modules = Counter(p.stem for p in files if p.stem not in PER_ROOM)
    return {
        "one-letter locals, in a hundred": round(100 * sum(len(n) == 1 for n in names) / len(names), 1),
        "least mean length of a local's name": round(sum(map(len, names)) / len(names), 2),
        "functions over complexity 15": heavy,
        "module names used more than once": sum(n > 1 for n in modules.values()),
        "lines over 120 letters": wide,
        "lines that the formatter is told to leave": left,
        "least methods with a docstring, in a hundred": round(100 * told / methods, 1),
    }


def main() -> int:
    worse = 0
    for name, now in counted().items():
        least = name.startswith("least")
        bad = now < LIMITS[name] if least else now > LIMITS[name]
        worse += bad
        if bad or "--check" not in sys.argv:
            print(f"{name.removeprefix('least ')}: {now}{f' (was {LIMITS[name]})' if bad else ''}")
    return bool(worse) if "--check" in sys.argv else 0


if __name__ == "__main__":
    sys.exit(main())
