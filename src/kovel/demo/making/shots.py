"""Six more b-roll shots: hands on the rope, the bell, gulls, the repair bench, feet boarding, the tide marks.

Each scene function gives draw(canvas, t) and its sounds [(time s, kind, level)], like those in `broll`.
"""
import math
import random

import skia
from art import H, W, blurred, col, lin, oval, paint, path, rad, rect, smooth, surf, vignette
from broll import ease


def _water(c, y, top="#b9c9c0", low="#35565f", n=70, seed=1):
    r = random.Random(seed)
    c.drawRect(skia.Rect.MakeXYWH(0, y, W, H - y), paint(sh=lin((0, y), (0, H), [top, low])))
    for _ in range(n):
        k = r.random()
        rect(c, r.random() * W, y + 6 + k * (H - y), 30 + 100 * k, 2 + 3 * k, paint("#ffffff", 0.28), 2)


def _bank(c, y, seed, k="#7b9682", a=34):
    r = random.Random(seed)
    c.drawPath(smooth([(-60, y)] + [(x, y - r.uniform(0, a)) for x in range(40, 1320, 110)] + [(1360, y), (1360, y + 120), (-60, y + 120)]), paint(k))


def _fist(c, x, y, k, d, flip=1):
    """A hand closed round a rope running left to right; sleeve goes down out of frame."""
    c.save()
    c.translate(x, y)
    c.scale(flip, 1)
    c.drawPath(path((-60, 40), ("c", -70, 160, -150, 330, -190, 470), ("l", 110, 470), ("c", 90, 320, 76, 170, 66, 40), "z"), paint(sh=lin((-120, 100), (100, 100), [k, k, d], [0, 0.5, 1])))
    for q in (120, 210, 300):
        c.drawPath(path((-90 - q * 0.2, q + 20), ("q", 0, q + 60, 80, q + 10)), paint(d, 0.5, w=6))
    c.drawPath(path((-66, 52), ("q", 0, 84, 72, 52)), paint(d, 1, w=20))
    c.drawPath(smooth([(-64, -20), (-30, -52), (30, -56), (66, -24), (70, 34), (40, 62), (-40, 64), (-72, 30)]), paint(sh=lin((-60, -40), (70, 50), ["#f0c7a6", "#d89f7c", "#a86d4f"])))
    for i in range(4):
        px = -48 + i * 31
        c.drawPath(path((px, -44 + abs(i - 1.5) * 5), ("q", px + 5, -6, px - 1, 36)), paint("#b97f5f", 1, w=30))
        c.drawPath(path((px - 2, -44 + abs(i - 1.5) * 5), ("q", px + 3, -6, px - 3, 34)), paint("#e6b791", 1, w=25))
        c.drawPath(path((px - 8, -38), ("q", px - 4, -14, px - 8, 8)), paint("#ffffff", 0.22, w=5))
    c.drawPath(path((58, 20), ("q", 30, 52, -26, 44)), paint("#c98d69", 1, w=27))
    c.drawPath(path((56, 18), ("q", 30, 48, -22, 41)), paint("#e2b08a", 1, w=22))
    c.restore()


def rope():
    """Two pairs of hands haul hand over hand; the rope's strands run through the frame."""
    s = surf()
    c = s.getCanvas()
    c.drawRect(skia.Rect.MakeWH(W, H), paint(sh=lin((0, 0), (0, H), ["#c4d6d8", "#efe2c2", "#a9b9ae"])))
    _bank(c, 250, 4)
    _water(c, 270, seed=5)
    back = blurred(s.makeImageSnapshot(), 11)
    period = 1.3

    def draw(c, t):
        c.drawImage(back, 0, 0)
        c.save()
        c.translate(3 * math.sin(t * 1.1), 4 * math.sin(t * 2 * math.pi / period))
        run = (t / period) % 1
        pull = sum(ease(x) for x in (run,)) + int(t / period)
        c.drawPath(path((-20, 372), ("q", 640, 410, 1300, 350)), paint("#3a2c1c", 0.35, w=52, blur=9))
        c.drawPath(path((-20, 356), ("q", 640, 392, 1300, 334)), paint("#a5814f", 1, w=46))
        c.drawPath(path((-20, 348), ("q", 640, 384, 1300, 326)), paint("#d6b37a", 0.9, w=22, blur=4))
        for i in range(64):  # strands
            u = ((i / 64) - pull * 0.125) % 1
            x = -20 + 1320 * u
            y = 356 + 4 * u * (1 - u) * 27 - 22 * u
            c.drawPath(path((x - 13, y + 20), ("q", x, y, x + 15, y - 20)), paint("#6c5029", 0.75, w=4))
        for k, (x0, col1, dark, ph) in enumerate(((300, "#e6b23f", "#9a6a1c", 0.0), (520, "#e6b23f", "#9a6a1c", 0.5), (850, "#57788a", "#2a3f4d", 0.2), (1060, "#57788a", "#2a3f4d", 0.7))):
            p = ((t / period) + ph) % 1
            go = ease(p / 0.62) if p < 0.62 else 1 - ease((p - 0.62) / 0.38)
            lift = 0 if p < 0.62 else 46 * math.sin(math.pi * (p - 0.62) / 0.38)
            x = x0 + 70 - 140 * go
            u = (x + 20) / 1320
            _fist(c, x, 356 + 108 * u * (1 - u) - 22 * u - lift, col1, dark, 1 if k % 2 else -1)
        c.restore()
        vignette(c, 0.5)

    return draw, [(i * period / 2 + 0.1, "creak", 0.5 + 0.2 * (i % 2)) for i in range(30)]


BELL = [1.2, 2.9, 4.6, 6.3, 8.0, 9.7]


def bell():
    """The crossing bell on its post; somebody out of frame pulls the rope."""
    s = surf()
    c = s.getCanvas()
    r = random.Random(8)
    c.drawRect(skia.Rect.MakeWH(W, H), paint(sh=lin((0, 0), (0, H), ["#7f9fb4", "#d6dccf", "#f2d9a8", "#c8b58e"], [0, 0.45, 0.72, 1])))
    for q in ((240, 120, 220, 16), (930, 90, 260, 18), (620, 190, 190, 12)):
        oval(c, *q, paint("#fff6e6", 0.6, blur=10))
    _bank(c, 560, 2, "#8aa28c", 60)
    _bank(c, 620, 9, "#5f7c66", 40)
    for _ in range(46):
        x = r.random() * W
        c.drawPath(path((x, 730), ("q", x + 8, 640, x + r.uniform(-26, 30), 560 - 60 * r.random())), paint("#44603f", 0.9, w=7))
    back = blurred(s.makeImageSnapshot(), 6)

    def draw(c, t):
        c.drawImage(back, 0, 0)
        n = [x for x in BELL if x <= t]
        a = 17 * math.sin((t - n[-1]) * 5.2) * math.exp(-(t - n[-1]) * 0.75) if n else 1.2 * math.sin(t)
        nxt = [x for x in BELL if x > t]
        if nxt and nxt[0] - t < 0.3:
            a -= 13 * ease(1 - (nxt[0] - t) / 0.3)
        for x, w in ((770, 64),):  # post and arm with a brace
            rect(c, x + 10, 70, w, 700, paint("#000000", 0.25, blur=8))
            rect(c, x, 60, w, 700, paint(sh=lin((x, 0), (x + w, 0), ["#9c7a55", "#715236", "#37261a"])), 5)
            for i in range(6):
                c.drawLine(x + 10 + i * 9, 70, x + 7 + i * 9, 720, paint("#241710", 0.35, w=2.5))
        rect(c, 420, 96, 400, 44, paint(sh=lin((0, 96), (0, 140), ["#a8855c", "#5c412b"])), 5)
        c.drawPath(path((776, 260), ("l", 640, 138)), paint("#6b4d33", 1, w=30))
        c.save()
        c.translate(560, 140)
        c.rotate(a)
        rect(c, -14, -8, 28, 50, paint("#3a3d3f"), 6)
        c.save()
        c.rotate(-a * 0.7, 0, 40)
        c.drawLine(0, 40, 0, 286, paint("#2c2c2c", 1, w=9))
        c.drawCircle(0, 292, 24, paint(sh=rad((-6, 284), 28, ["#8a8577", "#4c483f", "#22201c"])))
        c.drawPath(path((0, 314), ("q", 30, 470, -10 - a * 3, 640)), paint("#c9ab74", 1, w=11))
        c.restore()
        body = smooth([(-30, 36), (30, 36), (72, 70), (84, 150), (104, 222), (142, 262), (140, 280), (-140, 280), (-142, 262), (-104, 222), (-84, 150), (-72, 70)])
        c.drawPath(body, paint(sh=lin((-140, 60), (140, 120), ["#f1d28a", "#c9973f", "#8a5f22", "#4f3512"], [0, 0.3, 0.7, 1])))
        c.save()
        c.clipPath(body, True)
        for y, w in ((92, 7), (208, 9), (224, 5)):
            c.drawPath(path((-150, y), ("q", 0, y + 26, 150, y)), paint("#5a3d14", 0.55, w=w))
        c.drawPath(path((-52, 60), ("q", -84, 170, -104, 270)), paint("#fff4cf", 0.6, w=18, blur=7))
        for i in range(9):
            oval(c, random.Random(i).uniform(-90, 110), random.Random(i + 40).uniform(80, 260), 20, 9, paint("#4f8b7b", 0.22, blur=6))
        c.restore()
        oval(c, 0, 280, 140, 17, paint("#3a2810"))
        c.restore()
        vignette(c, 0.42)

    return draw, [(x, "bell", 1.0) for x in BELL]


def gulls():
    """Gulls over the landing in wind; one on a pile turns its head."""
    s = surf()
    c = s.getCanvas()
    c.drawRect(skia.Rect.MakeWH(W, H), paint(sh=lin((0, 0), (0, H), ["#6f97b3", "#bcd0d4", "#f0e0bd", "#d9c08d"], [0, 0.4, 0.68, 0.8])))
    for q in ((210, 110, 260, 26), (420, 160, 200, 20), (960, 90, 300, 28), (1130, 180, 190, 18), (700, 250, 240, 14)):
        oval(c, *q, paint("#fffaf0", 0.62, blur=16))
    _bank(c, 540, 6, "#8fa695", 44)
    _water(c, 566, "#c9c9ab", "#3f6068", 80, 4)
    back = s.makeImageSnapshot()
    r = random.Random(5)
    birds = [(r.random(), r.uniform(80, 380), r.uniform(0.7, 2.1), r.random() * 6.28) for _ in range(11)]

    def bird(c, x, y, k, fl, up):
        w = 46 * k
        tip = -fl * 24 * k
        for side in (-1, 1):
            wing = path((x, y), ("c", x + side * w * 0.35, y - 12 * k + tip * 0.5, x + side * w * 0.75, y - 14 * k + tip * 0.9, x + side * w * 1.5, y + tip), ("c", x + side * w * 0.9, y + 2 * k + tip * 0.7, x + side * w * 0.4, y + 8 * k, x, y + 7 * k), "z")
            c.drawPath(wing, paint(sh=lin((x, y - 10), (x + side * w * 1.5, y), ["#ffffff", "#c8d0d2", "#4b565c"], [0, 0.72, 1])))
        c.drawPath(smooth([(x - 4 * k, y - 7 * k), (x + 5 * k, y - 8 * k), (x + 7 * k, y + 6 * k), (x, y + 15 * k), (x - 6 * k, y + 6 * k)]), paint("#fbfaf4"))
        c.drawPath(path((x + up * 4 * k, y - 8 * k), ("l", x + up * 14 * k, y - 6 * k)), paint("#d8912f", 1, w=3 * k))

    def draw(c, t):
        c.drawImage(back, 0, 0)
        for i, (u, y, k, ph) in enumerate(sorted(birds, key=lambda b: b[2])):
            d = 1 if i % 3 else -1
            x = ((u * 1600 + d * t * 58 * k) % 1600) - 160
            glide = 0.5 + 0.5 * math.sin(t * 0.7 + ph)
            bird(c, x, y + 26 * math.sin(t * 0.6 + ph), k, 0.35 + math.sin(t * 6.2 / k**0.5 + ph) * glide, d)
        for x, h in ((170, 210), (300, 170), (1080, 240), (1190, 190)):
            rect(c, x, H - h, 52, h + 20, paint(sh=lin((x, 0), (x + 52, 0), ["#8f7355", "#5d4632", "#2e2118"])), 8)
            oval(c, x + 26, H - h, 26, 9, paint("#a98b68"))
            rect(c, x, H - 70, 52, 70, paint("#31503a", 0.5), 4)
        x, y = 1106, H - 246  # the one on the pile
        for q in (-7, 9):
            c.drawLine(x + q, y - 4, x + q, y + 8, paint("#d8912f", 1, w=4))
        c.drawPath(smooth([(x - 62, y - 30), (x - 20, y - 62), (x + 26, y - 66), (x + 40, y - 36), (x + 10, y - 6), (x - 30, y - 10)]), paint(sh=lin((x, y - 66), (x, y), ["#ffffff", "#d5dadb"])))
        c.drawPath(smooth([(x - 84, y - 20), (x - 22, y - 56), (x + 14, y - 46), (x - 6, y - 22)]), paint("#8d989e"))
        turn = math.sin(max(0, math.sin(t * 0.8)) * 1.57)
        hx = x + 34 - 12 * turn
        c.drawCircle(hx, y - 82, 20, paint(sh=rad((hx - 4, y - 88), 24, ["#ffffff", "#f3f3ee", "#c4cbcc"])))
        c.drawPath(path((x + 18, y - 50), ("q", x + 24, y - 70, hx, y - 74)), paint("#fbfaf4", 1, w=30))
        b = 1 - 2 * turn
        c.drawPath(path((hx + b * 14, y - 84), ("l", hx + b * 42, y - 77), ("l", hx + b * 14, y - 74), "z"), paint("#e09a34"))
        c.drawCircle(hx + b * 7, y - 86, 3.4, paint("#1d1d1d"))
        vignette(c, 0.36)

    return draw, [(0.9, "gull", 0.9), (2.0, "gull", 0.6), (3.7, "gull", 1.0), (4.2, "gull", 0.8), (6.8, "gull", 0.7), (8.1, "gull", 1.0), (9.4, "gull", 0.5)]


KNOCK = [0.8 + 0.52 * i + (0.3 if i >= 6 else 0) + (0.36 if i >= 11 else 0) for i in range(18)]


def bench():
    """Tobin drives a caulking iron along a seam: at least twelve sharp knocks."""
    s = surf()
    c = s.getCanvas()
    r = random.Random(31)
    c.drawRect(skia.Rect.MakeWH(W, H), paint(sh=lin((0, 0), (W, H), ["#4c565a", "#6a6459", "#3a332c"])))
    for i in range(7):
        c.drawLine(80 + i * 190, 40, 80 + i * 190, 40 + 110 + 50 * r.random(), paint("#8a6a43", 1, w=14))
        rect(c, 54 + i * 190, 150 + 40 * r.random(), 54, 60, paint(r.choice(["#b5523b", "#c9b27c", "#5d7f8e", "#40525e"])), 8)
    c.drawCircle(1120, 90, 240, paint(sh=rad((1120, 90), 240, [col("ffe0a0", 0.7), col("ffe0a0", 0)])))
    back = blurred(s.makeImageSnapshot(), 9)
    c.drawImage(back, 0, 0)
    for i in range(5):  # planks of the hull, close
        y = 330 + i * 84
        c.drawPath(path((-20, y + 26), ("q", 640, y - 40, 1300, y + 10), ("l", 1300, y + 96), ("q", 640, y + 46, -20, y + 112), "z"), paint(sh=lin((0, y), (0, y + 100), [["#c59660", "#b98853", "#cda06b", "#ad7d49", "#b98a57"][i], "#7b5531"])))
        for _ in range(26):
            x = r.random() * W
            c.drawLine(x, y + 30 + r.random() * 40 - 30, x + 90, y + 26 + r.random() * 40 - 30, paint("#5a3a1d", 0.22, w=2))
        c.drawPath(path((-20, y + 26), ("q", 640, y - 40, 1300, y + 10)), paint("#2a190c", 0.85, w=7))
    base = s.makeImageSnapshot()

    def draw(c, t):
        c.drawImage(base, 0, 0)
        done = sum(1 for x in KNOCK if x <= t)
        last = [x for x in KNOCK if x <= t]
        nxt = [x for x in KNOCK if x > t]
        k = math.exp(-(t - last[-1]) * 14) if last else 0
        slide = done + (ease((t - last[-1]) / 0.3) - 1 if last else 0)
        x = 330 + slide * 30
        y = 414 - 66 * (1 - ((x - 640) / 660) ** 2) + 30 * ((640 - x) / 660) * 0.5
        c.drawPath(path((-20, 440), ("q", 300, 382, x, y + 22)), paint("#efe3c4", 0.95, w=8))  # cotton already driven
        up = 0.0
        if nxt:
            g = nxt[0] - t
            up = ease(min(1, (0.34 - g) / 0.2)) if 0.12 < g < 0.34 else (ease(g / 0.12) if g <= 0.12 else 0.0)
            if g >= 0.34:
                up = 0
        c.save()
        c.translate(x + 2 * k, y + 5 * k)
        c.rotate(-16)
        c.drawPath(path((-7, 26), ("l", -13, -120), ("l", 13, -120), ("l", 7, 26), "z"), paint(sh=lin((-13, 0), (13, 0), ["#a9b0b3", "#697276", "#2c3336"])))
        oval(c, 0, -124, 27, 10, paint("#8d9598"))
        for i in range(4):  # the left hand on the iron
            c.drawPath(path((-36, -92 + i * 22), ("q", 4, -100 + i * 22, 30, -88 + i * 22)), paint("#b57f5e" if i % 2 else "#c48c68", 1, w=25))
        c.drawPath(path((-40, -100), ("c", -150, -60, -330, 160, -470, 520)), paint("#3f5a6a", 1, w=112))
        c.drawPath(path((-44, -84), ("c", -90, -66, -110, -40, -120, -24)), paint("#c48c68", 1, w=62))
        c.restore()
        c.save()  # mallet, swinging about the right elbow
        c.translate(x + 226, y + 172)
        c.rotate(24 * up - 3 * k)
        c.drawPath(path((20, 10), ("q", 130, 60, 420, 230)), paint("#36505f", 1, w=120))
        c.drawPath(path((-230, -262), ("l", 10, 6)), paint("#8a6238", 1, w=26))
        c.drawPath(path((-230, -262), ("l", 10, 6)), paint("#c79a62", 0.7, w=9))
        c.save()
        c.translate(-252, -286)
        c.rotate(-30)
        rect(c, -116, -42, 232, 84, paint(sh=lin((0, -42), (0, 42), ["#c08d50", "#8b5c2c", "#4a2d13"])), 14)
        for q in (-96, 84):
            rect(c, q, -44, 16, 88, paint("#3a3d3f"), 4)
        c.restore()
        for i in range(4):
            c.drawPath(path((-24 + i * 17, -36 + i * 15), ("q", 4 + i * 16, -34 + i * 16, 26 + i * 14, -8 + i * 18)), paint("#c48c68" if i % 2 else "#b57f5e", 1, w=27))
        c.restore()
        if k > 0.2:
            rr = random.Random(done)
            for _ in range(9):
                a, d = rr.uniform(2.6, 5.8), (1 - k) * rr.uniform(60, 180)
                c.drawCircle(x + d * math.cos(a), y + 20 + d * math.sin(a), 3.2, paint("#f1dfb6", k))
        vignette(c, 0.5)

    return draw, [(x, "knock", 1.0 if i % 4 else 1.2) for i, x in enumerate(KNOCK)]


STEP = [0.9 + 0.58 * i for i in range(17)]


def feet():
    """Boots and shoes come down the landing and step over the gap on to the ferry."""
    s = surf()
    c = s.getCanvas()
    r = random.Random(17)
    _water(c, 0, "#6d8f92", "#2f4d57", 90, 7)
    c.drawRect(skia.Rect.MakeXYWH(0, 0, W, 170), paint(sh=lin((0, 0), (0, 170), ["#c9d3c4", "#8fa79f"])))
    back = blurred(s.makeImageSnapshot(), 7)
    c.drawImage(back, 0, 0)
    for x0, x1, y, tone in ((-30, 640, 470, "#8d6f4f"), (735, 1330, 452, "#a67d52")):
        c.drawRect(skia.Rect.MakeLTRB(x0, y, x1, 740), paint(sh=lin((0, y), (0, 740), [tone, "#3b2a1c"])))
        n = 7
        for i in range(n):
            xa = x0 + (x1 - x0) * i / n
            c.drawPath(path((xa, y), ("l", xa + (x1 - x0) / n - 5, y), ("l", xa + (x1 - x0) / n - 5 + (i - 3) * 8, 600), ("l", xa + (i - 3) * 8, 600), "z"), paint(r.choice(["#a88560", "#97754f", "#b18e67", "#8c6b47"])))
        c.drawRect(skia.Rect.MakeLTRB(x0, 600, x1, 740), paint(sh=lin((0, 600), (0, 740), ["#5a4028", "#22170f"])))
        rect(c, x0, 592, x1 - x0, 16, paint("#d2b184", 0.8), 3)
    base = s.makeImageSnapshot()
    people = [(0.0, "#4b3a2e", "#2c2620", "#e6b23f"), (2.4, "#6a3f2c", "#3b4a58", "#57788a"), (4.9, "#2b2b2f", "#7a3b35", "#b5523b"), (7.3, "#5a4a33", "#4d5a44", "#7f9a7a")]

    def shoe(c, x, y, ang, k, leg, hem, h):
        c.save()
        c.translate(x, y)
        c.drawPath(path((-26, -60), ("l", -32, -h), ("l", 40, -h), ("l", 28, -60), "z"), paint(sh=lin((-30, 0), (40, 0), [leg, leg, "#14110f"], [0, 0.45, 1])))
        c.rotate(ang, -20, 0)
        c.drawPath(smooth([(-36, -66), (26, -70), (34, -40), (82, -30), (100, -8), (96, 4), (-40, 4), (-44, -20)]), paint(sh=lin((0, -70), (0, 6), [k, k, "#120d0a"], [0, 0.55, 1])))
        rect(c, -44, 0, 142, 12, paint("#1b1512"), 5)
        c.drawPath(path((30, -44), ("q", 60, -34, 88, -16)), paint("#ffffff", 0.22, w=6, blur=2))
        for q in range(3):
            c.drawLine(24 + q * 13, -48 + q * 6, 38 + q * 13, -34 + q * 4, paint("#e9dcc0", 0.7, w=3))
        rect(c, -34, -78, 66, 16, paint(hem, 0.9), 5)
        c.restore()

    def draw(c, t):
        c.drawImage(base, 0, 0)
        c.save()
        c.translate(0, 2.5 * math.sin(t * 1.2))
        for t0, k, leg, hem in people:
            u = (t - t0) / 0.58
            for side in (1, 0):
                ph = u / 2 + side * 0.5
                n, f = math.floor(ph), ph - math.floor(ph)
                if ph < -0.6:
                    continue
                sw = ease(f / 0.5) if f < 0.5 else 1.0
                lift = math.sin(math.pi * f / 0.5) * 74 if f < 0.5 else 0
                x = -180 + (n + sw) * 270 + side * 135
                if x > 1480:
                    continue
                y = 560 - side * 26 - lift - (10 if x > 700 else 0)
                oval(c, x + 26, 566 - side * 26, 84 - lift * 0.4, 11, paint("#120b06", 0.45, blur=6))
                shoe(c, x, y, -16 * math.sin(math.pi * f / 0.5) if f < 0.5 else 0, k, leg, hem, 640)
        c.restore()
        vignette(c, 0.45)

    return draw, [(x, "step", 0.9 if i % 2 else 0.7) for i, x in enumerate(STEP)]


def marks():
    """Painted tide marks on the landing post with names beside them; the water rises and falls against them."""
    s = surf()
    c = s.getCanvas()
    r = random.Random(23)
    c.drawRect(skia.Rect.MakeWH(W, H), paint(sh=lin((0, 0), (0, H), ["#b9cfd4", "#efe4c8", "#9db3a8"])))
    _bank(c, 220, 3, "#859d8a", 40)
    _water(c, 246, "#c2cdbb", "#3c5f67", 70, 2)
    back = blurred(s.makeImageSnapshot(), 10)
    c.drawImage(back, 0, 0)
    x, w = 470, 300
    rect(c, x + 20, -10, w, 760, paint("#000000", 0.3, blur=14))
    rect(c, x, -10, w, 760, paint(sh=lin((x, 0), (x + w, 0), ["#b49a78", "#94795a", "#4f3c2a"])), 6)
    for _ in range(34):
        q = x + 8 + r.random() * (w - 16)
        y = r.random() * 700
        c.drawPath(path((q, y), ("q", q + r.uniform(-7, 7), y + 70, q + r.uniform(-5, 5), y + 150)), paint("#3b2918", 0.3, w=2.4))
    for i, (y, k) in enumerate(((86, "#b5523b"), (196, "#f4ecd6"), (300, "#f4ecd6"), (398, "#2f5d6e"), (500, "#f4ecd6"))):
        rect(c, x + 18, y, 120, 13, paint(k), 4)
        px = x + 158
        for j in range((5, 7, 4, 6, 5)[i]):  # a painted name, as brush strokes
            hgt = r.uniform(14, 26)
            c.drawPath(path((px, y + 18), ("q", px + 6, y + 18 - hgt, px + 11, y + 16)), paint(k, 0.95, w=5))
            px += 17
    rect(c, x, 560, w, 200, paint("#2f4a35", 0.55), 4)
    base = s.makeImageSnapshot()

    def draw(c, t):
        c.drawImage(base, 0, 0)
        y = 548 - 30 * math.sin(t * 0.9) - 8 * math.sin(t * 2.3)
        pts = [(q, y + 9 * math.sin(q * 0.012 + t * 1.7) + 4 * math.sin(q * 0.031 - t * 2.4)) for q in range(-40, 1341, 60)]
        wave = smooth([*pts, (1360, 760), (-60, 760)])
        c.drawPath(wave, paint(sh=lin((0, 520), (0, 720), [col("9fb9b4", 0.82), col("33545d", 0.95)])))
        c.drawPath(smooth(pts, False), paint("#f7f4e6", 0.75, w=4))
        for i in range(26):
            rr = random.Random(i)
            q = (rr.random() * 1400 + t * 22 * (0.5 + rr.random())) % 1400 - 60
            rect(c, q, y + 26 + rr.random() * 150, 40 + 70 * rr.random(), 3, paint("#ffffff", 0.22 + 0.2 * math.sin(t * 1.4 + i)), 2)
        for i in range(5):
            a = (t * 0.7 + i * 0.2) % 1
            c.drawPath(smooth([(620 - 170 * (0.8 + a * 0.5), y + 12), (620, y + 4 + 26 * a), (620 + 170 * (0.8 + a * 0.5), y + 10)], False), paint("#ffffff", 0.35 * (1 - a), w=3))
        vignette(c, 0.42)

    return draw, [(1.5, "gull", 0.3), (6.3, "gull", 0.4)]


SC = {"rope": rope, "bell": bell, "gulls": gulls, "bench": bench, "feet": feet, "marks": marks}
