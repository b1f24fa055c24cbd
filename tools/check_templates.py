"""Templates draw what a view made ready: none of them works anything out."""

import sys

from jinja2 import nodes

from kovel.web.pages import environment

SUMS = (nodes.Add, nodes.Sub, nodes.Mul, nodes.Div, nodes.FloorDiv, nodes.Pow)


def main() -> int:
    env = environment()
    assert env.loader
    found = [
        f"{name}:{n.lineno}: {type(n).__name__}"
        for name in env.list_templates()
        for n in env.parse(env.loader.get_source(env, name)[0]).find_all(SUMS)
    ]
    print(*found, sep="\n", end="\n" if found else "")
    return bool(found)


if __name__ == "__main__":
    sys.exit(main())
