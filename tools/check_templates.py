"""Templates draw what a view made ready: none of them works anything out, holds a number against a threshold, or knows
the states of a job. One and none (`!= 1`, `> 0`) may be told from more, and how many there are in a list."""

import sys

from jinja2 import nodes

from kovel.web.pages import environment

SUMS = (nodes.Add, nodes.Sub, nodes.Mul, nodes.Div, nodes.FloorDiv, nodes.Pow)


def is_rule(node: nodes.Node) -> bool:
    """Whether something in a template decides what a view should have decided."""
    if not isinstance(node, nodes.Compare):
        return isinstance(node, SUMS)
    if isinstance(node.expr, nodes.Getattr) and node.expr.attr == "state":
        return True
    counted = isinstance(node.expr, nodes.Filter) and node.expr.name == "length"
    numbers = [op.expr.value for op in node.ops if isinstance(op.expr, nodes.Const)]
    return not counted and any(isinstance(n, int | float) and n not in (0, 1) for n in numbers)


def main() -> int:
    env = environment()
    assert env.loader
    found = [
        f"{name}:{n.lineno}: {type(n).__name__}"
        for name in env.list_templates()
        for n in env.parse(env.loader.get_source(env, name)[0]).find_all((*SUMS, nodes.Compare))
        if is_rule(n)
    ]
    print(*found, sep="\n", end="\n" if found else "")
    return bool(found)


if __name__ == "__main__":
    sys.exit(main())
