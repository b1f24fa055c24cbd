"""A child that stays: makes single pieces of pictures as they are asked for, one JSON line each, its readers kept open.

`python -m kovel.media.piecemaker CPU MEMORY`; asked {"path", "out", "rate", "frames", "piece"}, answers {"made":
true or false}. Ends when its standard input closes. Held to the same limits as every child (media/child.py).
"""

import json
import os
import resource
import sys
from collections import OrderedDict
from pathlib import Path
from typing import Any

from kovel.core.time.rate import Rate
from kovel.media.child import without_network
from kovel.media.files import Unusable, kind_of
from kovel.media.pieces import Maker, make_pieces, place

OPEN = 3  # recordings kept open


def main() -> None:
    without_network()
    cpu, memory = int(sys.argv[1]), int(sys.argv[2])
    resource.setrlimit(resource.RLIMIT_CPU, (cpu, cpu))
    resource.setrlimit(resource.RLIMIT_AS, (memory, memory))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    import av

    av.logging.set_level(None)
    answer_stream = os.fdopen(os.dup(1), "w", buffering=1)
    os.dup2(2, 1)
    makers: OrderedDict[str, Maker] = OrderedDict()
    for asked_line in sys.stdin:
        answer_stream.write(json.dumps({"made": _make(makers, json.loads(asked_line))}) + "\n")


def _make(makers: "OrderedDict[str, Maker]", asked: dict[str, Any]) -> bool:
    maker_key = f"{asked['out']} {asked['rate']}"
    try:
        if kind_of(Path(asked["path"])) == "still":
            make_pieces(asked["path"], asked["out"], asked["rate"], 1, 0, 1, lambda x: None)
            return bool(asked["piece"] == 0)
        maker = makers.pop(maker_key, None) or Maker(
            Path(asked["path"]), Path(asked["out"]), Rate(*asked["rate"]), asked["frames"]
        )
        makers[maker_key] = maker
        while len(makers) > OPEN:
            makers.popitem(last=False)[1].close()
        list(maker.run(asked["piece"], asked["piece"] + 1))
        return place(Path(asked["out"]), asked["piece"]).exists()
    except (Unusable, OSError, MemoryError, ValueError):
        makers.pop(maker_key, None)
        return False


if __name__ == "__main__":
    main()
