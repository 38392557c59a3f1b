"""Pictures of Larkmead's goods, drawn here: plain shapes on the paper of the house."""

from __future__ import annotations

import io
from collections.abc import Callable

from PIL import Image, ImageDraw

from yuvrel.catalogue import pictures
from yuvrel.catalogue.models import Item
from yuvrel.people.roles import SYSTEM

from .range import BY_SKU

SIDE, FINER = 320, 2
PAPER, INK, SHADE = "#F6F1E4", "#3A4341", "#E7DFCB"
PINE, CEDAR, OAK, STEEL, DARK = "#DDB980", "#A9683F", "#B98F57", "#A9B2B3", "#6F7A7B"
HONEY, WAX, CREAM, WHITE, GREEN, RED, BLUE = "#D99A2B", "#EBC25A", "#FBF4E0", "#FFFDF6", "#5C7F5F", "#9B3B33", "#3F6E8C"
COLOURS = {"white": WHITE, "yellow": WAX, "red": RED, "green": GREEN, "blue": BLUE, "gold": HONEY, "black": INK}


class Pen:
    """Draws in units of a picture 320 wide, twice as fine."""

    def __init__(self) -> None:
        self.sheet = Image.new("RGB", (SIDE * FINER, SIDE * FINER), PAPER)
        self.draw = ImageDraw.Draw(self.sheet)
        self.oval(60, 262, 260, 292, SHADE, line="")

    def box(self, x: float, y: float, right: float, low: float, fill: str, round_: float = 3, line: str = INK) -> None:
        """A rectangle with rounded corners."""
        self.draw.rounded_rectangle(_finer(x, y, right, low), round_ * FINER, fill, line or None, 2 * FINER if line else 0)

    def oval(self, x: float, y: float, right: float, low: float, fill: str, line: str = INK) -> None:
        """An ellipse."""
        self.draw.ellipse(_finer(x, y, right, low), fill, line or None, 2 * FINER if line else 0)

    def shape(self, *points: tuple[float, float], fill: str) -> None:
        """A polygon with an outline."""
        finer = [(x * FINER, y * FINER) for x, y in points]
        self.draw.polygon(finer, fill)
        self.draw.line([*finer, finer[0]], INK, 2 * FINER, "curve")

    def line(self, *points: tuple[float, float], wide: float = 2, fill: str = INK) -> None:
        """A line through points."""
        self.draw.line([(x * FINER, y * FINER) for x, y in points], fill, int(wide * FINER), "curve")

    def png(self) -> bytes:
        """The picture."""
        kept = io.BytesIO()
        seen = self.sheet.crop((26 * FINER, 40 * FINER, 294 * FINER, 308 * FINER))
        seen.resize((SIDE, SIDE), Image.Resampling.LANCZOS).save(kept, "PNG")
        return kept.getvalue()


def _finer(*numbers: float) -> tuple[float, ...]:
    return tuple(number * FINER for number in numbers)


def _hive(pen: Pen, sku: str) -> None:
    wood = CEDAR if sku.endswith("C") else PINE
    half = 62 if "8" in sku or sku.startswith("NUC") else 76
    for top in (196, 132, 92):
        pen.box(160 - half, top, 160 + half, top + (64 if top > 92 else 40), wood)
        pen.box(142, top + 16, 178, top + 24, DARK, 4)
    pen.box(160 - half - 10, 70, 160 + half + 10, 94, STEEL)
    pen.box(160 - half - 4, 258, 160 + half + 4, 272, wood)
    pen.box(120, 250, 200, 258, INK, 2)


def _super(pen: Pen, sku: str) -> None:
    tall = 96 if sku.startswith("BRD") else 66
    pen.box(66, 262 - tall, 254, 262, PINE)
    pen.box(134, 262 - tall / 2 - 6, 186, 262 - tall / 2 + 6, DARK, 5)
    for x in range(84, 240, 19):
        pen.box(x, 262 - tall - 8, x + 9, 262 - tall + 1, WAX, 1)


def _board(pen: Pen, sku: str) -> None:
    if sku == "ROF-GAB":
        pen.shape((52, 212), (160, 128), (268, 212), fill=STEEL)
        pen.box(72, 210, 248, 256, PINE)
        return
    wood = OAK if "OAK" in sku else PINE
    pen.shape((60, 214), (104, 172), (276, 172), (236, 214), fill=wood)
    pen.box(60, 214, 236, 240, wood, 2)
    pen.shape((236, 214), (276, 172), (276, 196), (236, 240), fill=CEDAR)
    pen.oval(150, 184, 186, 200, PAPER)


def _frame(pen: Pen, sku: str) -> None:
    pen.box(48, 92, 272, 108, PINE)
    pen.box(66, 106, 254, 252, PINE)
    pen.box(80, 118, 240, 238, WAX if sku.startswith("F") else STEEL, 2)
    for row in range(6):
        for column in range(8):
            x, y = 84 + column * 19.5 + (row % 2) * 9, 124 + row * 19
            if x < 226:
                pen.oval(x, y, x + 12, y + 12, HONEY if sku.startswith("F") else PAPER, line="")


def _suit(pen: Pen, sku: str) -> None:
    smock = sku.startswith("SMO")
    low = 210 if smock else 268
    pen.shape(
        (120, 116),
        (200, 116),
        (250, 196),
        (226, 210),
        (196, 160),
        (200, low),
        (120, low),
        (124, 160),
        (94, 210),
        (70, 196),
        fill=CREAM if "COT" in sku else WHITE,
    )
    if not smock:
        pen.line((160, 200), (160, 268))
    pen.oval(116, 52, 204, 128, "#5A6462")
    pen.oval(100, 50, 220, 76, CREAM)
    pen.line((160, 128), (160, low - 4), wide=1.5)


def _glove(pen: Pen, sku: str) -> None:
    skin = BLUE if "NIT" in sku else CREAM
    for x, tall in ((112, 86), (134, 72), (156, 74), (178, 88)):
        pen.box(x, tall, x + 20, 170, skin, 10)
    pen.shape((112, 140), (88, 118), (78, 132), (112, 180), fill=skin)
    pen.box(110, 138, 200, 196, skin, 12)
    pen.box(104, 190, 206, 268, skin if "NIT" in sku else GREEN, 6)


def _veil(pen: Pen, sku: str) -> None:
    pen.box(102, 116, 218, 240, "#5A6462", 10 if "SQR" in sku else 40)
    for x in range(112, 216, 13):
        pen.line((x, 124), (x, 234), wide=0.8, fill="#8B9593")
    pen.oval(64, 98, 256, 138, CREAM)
    pen.oval(110, 64, 210, 124, CREAM)


def _smoker(pen: Pen, sku: str) -> None:
    pen.shape((150, 96), (110, 96), (66, 78), (60, 88), (104, 118), fill=STEEL)
    pen.box(104, 112, 196, 266, STEEL, 6)
    pen.shape((104, 112), (196, 112), (170, 84), (130, 84), fill=DARK)
    for y in (136, 240):
        pen.line((104, y), (196, y), wide=1.5)
    pen.box(196, 138, 252, 258, CEDAR, 6)
    for y in range(150, 252, 14):
        pen.line((200, y), (248, y), wide=1)


def _tool(pen: Pen, sku: str) -> None:
    fill = {"TOL": BLUE, "UNC": STEEL, "BRU": PINE, "CAG": STEEL}.get(sku[:3], STEEL)
    pen.shape((88, 244), (112, 262), (232, 110), (212, 92), fill=fill)
    if sku == "TOL-JAY":
        pen.shape((212, 92), (232, 110), (262, 90), (252, 64), (238, 66), (242, 82), fill=STEEL)
    elif sku == "UNC-FRK":
        for shift in range(-14, 22, 7):
            pen.line((224 + shift * 0.7, 100 + shift * 0.9), (262 + shift * 0.7, 54 + shift * 0.9), wide=2)
    else:
        pen.shape((212, 92), (232, 110), (276, 58), (252, 50), fill=WHITE if sku == "BRU-BEE" else STEEL)
    pen.oval(98, 236, 108, 246, PAPER)


def _drum(pen: Pen, sku: str) -> None:
    half = 84 if sku[-1] in "09" else 68
    pen.box(160 - half, 108, 160 + half, 256, STEEL, 6)
    pen.oval(160 - half, 236, 160 + half, 272, STEEL)
    pen.box(160 - half + 2, 230, 160 + half - 2, 254, STEEL, 0, line="")
    pen.oval(160 - half, 92, 160 + half, 126, DARK)
    pen.box(160 + half - 30, 226, 160 + half + 16, 240, HONEY, 4)
    if sku.startswith("EXT"):
        pen.box(148, 62, 172, 110, GREEN if "MOT" in sku else DARK, 4)
        pen.line((160, 66), (214, 52), wide=4)


def _bucket(pen: Pen, sku: str) -> None:
    pen.line((92, 128), (110, 66), (210, 66), (228, 128), wide=3)
    pen.shape((88, 122), (232, 122), (214, 266), (106, 266), fill=WHITE)
    pen.box(80, 108, 240, 128, HONEY if sku.startswith("BKT") else GREEN, 5)
    pen.box(124, 166, 196, 224, CREAM)


def _jar(pen: Pen, sku: str) -> None:
    jars = {"GFT": 3, "KIT": 3}.get(sku[:3], 1)
    size = {"110": 0.62, "227": 0.76, "340": 0.88}.get(sku[4:7], 1.0) if jars == 1 else 0.55
    for at in range(jars):
        middle = 160 + (at - (jars - 1) / 2) * 84
        wide, tall = 62 * size, 150 * size
        pen.box(middle - wide, 268 - tall, middle + wide, 268, HONEY, 16 * size)
        pen.box(middle - wide * 0.86, 268 - tall - 30 * size, middle + wide * 0.86, 268 - tall + 6, WAX, 5)
        pen.box(middle - wide * 0.66, 268 - tall * 0.7, middle + wide * 0.66, 268 - tall * 0.25, CREAM)


def _lid(pen: Pen, sku: str) -> None:
    fill = COLOURS[BY_SKU[sku].options.get("Colour", "gold")]
    for lift in (0, 34, 68):
        pen.box(90, 196 - lift, 230, 236 - lift, fill, 8)
        pen.oval(90, 180 - lift, 230, 216 - lift, fill)


def _book(pen: Pen, sku: str) -> None:
    cover = (GREEN, RED, BLUE, HONEY, CEDAR, DARK)[sum(sku.encode()) % 6]
    pen.box(92, 66, 232, 268, WHITE, 4)
    pen.box(86, 60, 224, 262, cover, 5)
    pen.box(108, 90, 204, 134, CREAM)
    for y in (104, 118):
        pen.line((118, y), (194, y), wide=2)
    pen.oval(134, 164, 178, 208, WAX)


def _block(pen: Pen, sku: str) -> None:
    fill = {"WAX": WAX, "PAT": HONEY, "POL": HONEY}.get(sku[:3], WHITE)
    pen.shape((66, 196), (118, 150), (270, 150), (222, 196), fill=fill)
    pen.box(66, 196, 222, 258, fill, 2)
    pen.shape((222, 196), (270, 150), (270, 210), (222, 258), fill=SHADE)
    pen.box(98, 212, 190, 244, CREAM)


def _marker(pen: Pen, sku: str) -> None:
    fill = COLOURS[BY_SKU[sku].options.get("Colour", "white")]
    pen.shape((96, 236), (118, 258), (222, 150), (200, 128), fill=WHITE)
    pen.shape((200, 128), (222, 150), (258, 112), (238, 92), fill=fill)
    pen.oval(240, 84, 264, 108, fill)


def _candle(pen: Pen, sku: str) -> None:
    pen.box(112, 122, 208, 266, WAX, 10)
    pen.line((160, 122), (160, 92), wide=4)
    pen.shape((160, 46), (176, 78), (160, 94), (144, 78), fill=HONEY)


FAMILIES: dict[str, Callable[[Pen, str], None]] = {
    **dict.fromkeys(("HIV", "NUC", "KIT-START"), _hive),
    **dict.fromkeys(("BRD", "SUP"), _super),
    **dict.fromkeys(("FLR", "CRN", "ROF", "STD", "CLR", "ENT", "FDR-TOP", "CND"), _board),
    **dict.fromkeys(("FRM", "FND", "QEX", "FDR-FRM"), _frame),
    **dict.fromkeys(("SUI", "SMO"), _suit),
    **dict.fromkeys(("TOL", "UNC", "BRU", "CLP", "PEN"), _tool),
    **dict.fromkeys(("EXT", "TNK", "MLT", "STR", "TRY"), _drum),
    **dict.fromkeys(("BKT", "SYR", "FDR-RAP"), _bucket),
    **dict.fromkeys(("JAR", "GFT", "KIT-HARVEST", "KIT-GIFT"), _jar),
    **dict.fromkeys(("FON", "PAT", "POL", "WAX", "BOX"), _block),
    "GLV": _glove,
    "VEI": _veil,
    "SMK": _smoker,
    "LID": _lid,
    "BOK": _book,
    "MRK": _marker,
    "MLD": _candle,
}


def drawn(sku: str) -> bytes | None:
    """A picture of one of Larkmead's items as PNG; None where there is none."""
    family = FAMILIES.get(sku) or FAMILIES.get(sku[:7]) or FAMILIES.get(sku.split("-")[0])
    if family is None:
        return None
    pen = Pen()
    family(pen, sku)
    return pen.png()


def picture_range(items: dict[str, Item]) -> None:
    """A picture for every product that can be drawn; of those that come in colours one for each item."""
    seen: set[int] = set()
    for sku, item in items.items():
        coloured = "Colour" in BY_SKU[sku].options
        data = None if item.product_id in seen and not coloured else drawn(sku)
        seen.add(item.product_id)
        if data is not None:
            title = item.title if coloured else BY_SKU[sku].product
            pictures.add(SYSTEM, item.product_id, data, title, item.pk if coloured else None)
