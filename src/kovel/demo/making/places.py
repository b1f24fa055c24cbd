"""The rooms behind Tobin (his boatyard, open doors on the slip) and Odile (the tide room, charts and a bright window)."""
import random

import skia
from art import H, W, col, lin, oval, paint, path, rad, rect, smooth, surf


def tobin():
    s = surf()
    c = s.getCanvas()
    r = random.Random(12)
    c.drawRect(skia.Rect.MakeWH(W, H), paint(sh=lin((0, 0), (W, 0), ["#39444a", "#56595a", "#7d7466"])))
    for i in range(27):  # corrugated wall
        x = i * 48
        c.drawRect(skia.Rect.MakeXYWH(x, 0, 24, H), paint("#ffffff", 0.05 + 0.03 * r.random()))
        c.drawRect(skia.Rect.MakeXYWH(x + 44, 0, 4, H), paint("#11171a", 0.35))
    # open doors: the slip, water, a mast
    x0, y0, w, h = 760, 40, 470, 500
    c.save()
    c.clipRect(skia.Rect.MakeXYWH(x0, y0, w, h))
    c.drawRect(skia.Rect.MakeXYWH(x0, y0, w, h), paint(sh=lin((0, y0), (0, y0 + h), ["#bcd3dc", "#eef0e2", "#dcd2b4"])))
    c.drawPath(smooth([(x0 - 30, 300), (x0 + 120, 262), (x0 + 300, 288), (x0 + 520, 255), (x0 + 520, 380), (x0 - 30, 380)]), paint("#7c947f"))
    c.drawRect(skia.Rect.MakeXYWH(x0, 350, w, 120), paint(sh=lin((0, 350), (0, 470), ["#a9c2c0", "#67898d"])))
    for _ in range(14):
        rect(c, x0 + r.random() * w, 358 + r.random() * 90, 30 + 60 * r.random(), 3, paint("#ffffff", 0.6), 2)
    c.drawPath(path((x0 + 60, y0 + h), ("l", x0 + 190, 440), ("l", x0 + 300, 440), ("l", x0 + 440, y0 + h), "z"), paint("#a08b6c"))
    c.drawLine(x0 + 330, 400, x0 + 330, 80, paint("#6b4d33", 1, w=7))
    c.drawPath(path((x0 + 334, 90), ("q", x0 + 400, 230, x0 + 420, 380), ("l", x0 + 334, 385), "z"), paint("#f1e6cc", 0.9))
    c.restore()
    for q in ((x0 - 26, 0, 30, 560), (x0 + w - 4, 0, 30, 560), (x0 - 26, 14, w + 52, 30)):
        rect(c, *q, paint("#4a3726"), 2)
    # a hull in frame: ribs and three strakes, left
    for i in range(8):
        c.drawPath(path((20 + i * 78, 590), ("c", -10 + i * 80, 470, 10 + i * 86, 380, 60 + i * 84, 300)), paint("#b98a55", 1, w=16))
    for k, y in enumerate((560, 500, 440)):
        c.drawPath(path((-30, y - 30), ("q", 300, y + 26 - k * 6, 700, y - 70)), paint(["#c99a61", "#b5844c", "#a3743f"][k], 1, w=34))
    for i, (h2, k) in enumerate(((150, "#b5523b"), (110, "#c9b27c"), (170, "#5d7f8e"), (96, "#8a6a43"), (130, "#40525e"))):  # tools
        c.drawLine(90 + i * 92, 60, 90 + i * 92, 60 + h2, paint("#7a5a39", 1, w=11))
        rect(c, 72 + i * 92, 50 + h2, 38, 46, paint(k), 8)
    rect(c, 40, 44, 560, 20, paint("#6d4e31"), 3)
    c.drawRect(skia.Rect.MakeXYWH(0, 590, W, 130), paint(sh=lin((0, 590), (0, 720), ["#6f5a43", "#2d241c"])))
    for _ in range(120):
        oval(c, r.random() * W, 610 + r.random() * 100, 10, 3, paint("#d9b884", 0.4))  # shavings
    c.drawPath(path((x0, y0), ("l", x0 + w, y0), ("l", x0 + w - 260, H), ("l", x0 - 520, H), "z"), paint("#fff3d6", 0.12, blur=40))
    return s.makeImageSnapshot()


def odile():
    s = surf()
    c = s.getCanvas()
    r = random.Random(3)
    c.drawRect(skia.Rect.MakeWH(W, H), paint(sh=lin((0, 0), (W, H), ["#cfd6c6", "#b9bfae", "#8d9484"])))
    c.drawRect(skia.Rect.MakeXYWH(0, 470, W, 250), paint(sh=lin((0, 470), (0, 720), ["#6f8f8b", "#4b6663"])))
    for i in range(17):
        c.drawRect(skia.Rect.MakeXYWH(i * 78, 470, 3, 250), paint("#24403e", 0.5))
    rect(c, 0, 462, W, 14, paint("#e9e2cf"))
    # tide chart: paper, curves, a red tide line
    rect(c, 66, 84, 440, 300, paint("#000000", 0.25, blur=8))
    rect(c, 60, 76, 440, 300, paint("#f4ecd6"), 3)
    for k in range(5):
        pts = [(80 + i * 20, 130 + k * 52 + 18 * ((-1) ** i) * (0.4 + 0.6 * r.random())) for i in range(21)]
        c.drawPath(smooth(pts, False), paint("#35647a" if k != 2 else "#b5523b", 0.85, w=4))
    for k in range(6):
        c.drawLine(80, 104 + k * 52, 480, 104 + k * 52, paint("#8b8166", 0.4, w=1.5))
    # window right, bright, with panes and reeds
    x0, y0, w, h = 830, 50, 380, 380
    c.drawRect(skia.Rect.MakeXYWH(x0, y0, w, h), paint(sh=lin((0, y0), (0, y0 + h), ["#d7e8ee", "#f7f1df", "#a9bfae"])))
    for _ in range(26):
        x = x0 + 10 + r.random() * (w - 20)
        q = 60 + r.random() * 120
        c.drawPath(path((x, y0 + h), ("q", x + 6, y0 + h - q * 0.6, x + r.uniform(-16, 20), y0 + h - q)), paint("#5e7a52", 0.8, w=5))
    for q in ((x0 - 16, y0 - 16, w + 32, 18), (x0 - 24, y0 + h, w + 48, 24), (x0 - 16, y0, 18, h), (x0 + w - 2, y0, 18, h), (x0 + w / 2 - 6, y0, 12, h), (x0, y0 + h / 2, w, 11)):
        rect(c, *q, paint("#fbf6e8"), 2)
    # row of painted pegs with children's coats
    rect(c, 540, 190, 240, 16, paint("#8a6a43"), 3)
    for i, k in enumerate(("#c9503f", "#e0a63c", "#3f6f86")):
        c.drawPath(smooth([(566 + i * 84, 206), (590 + i * 84, 216), (600 + i * 84, 330), (540 + i * 84, 332), (546 + i * 84, 216)]), paint(k))
    # globe and books on the dado
    c.drawCircle(690, 418, 44, paint(sh=rad((676, 402), 60, ["#9cc3cf", "#4f7f93", "#2a4a58"])))
    for i, k in enumerate(("#93402f", "#c79a42", "#2f5d6e", "#6d7f68", "#b5523b")):
        rect(c, 150 + i * 40, 398 - (i % 3) * 10, 32, 66 + (i % 3) * 10, paint(k), 3)
    c.drawPath(path((x0, y0), ("l", x0 + w, y0), ("l", x0 + w - 300, H), ("l", x0 - 560, H), "z"), paint("#fffdf0", 0.2, blur=40))
    c.drawRect(skia.Rect.MakeWH(W, H), paint(sh=lin((0, 0), (0, H), [col("ffffff", 0.0), col("20302c", 0.25)])))
    return s.makeImageSnapshot()
