"""The still: an old photograph of the crossing, sepia, with a white border: `python still.py OUTDIR`."""
import json
import sys

import art
import broll
import skia


def main(out):
    s = art.surf()
    broll.SC["creek"]()[0](s.getCanvas(), 6.5)
    sepia = skia.ColorFilters.Matrix([0.36, 0.55, 0.12, 0, 0.06, 0.31, 0.48, 0.11, 0, 0.04, 0.23, 0.37, 0.08, 0, 0.02, 0, 0, 0, 1, 0])
    o = skia.Surface(1600, 1000)
    c = o.getCanvas()
    c.clear(art.col("#efe6d2"))
    c.drawImageRect(s.makeImageSnapshot(), skia.Rect.MakeXYWH(70, 70, 1460, 821), skia.SamplingOptions(skia.FilterMode.kLinear), skia.Paint(ColorFilter=sepia))
    c.drawRect(skia.Rect.MakeXYWH(70, 70, 1460, 821), art.paint("#3b2a18", 0.5, w=3))
    o.makeImageSnapshot().save(f"{out}/photograph.jpg", skia.kJPEG, 86)
    json.dump({"kind": "still"}, open(f"{out}/photograph.json", "w"))


if __name__ == "__main__":
    main(sys.argv[1])
