"""Larkmead Apiary Supply's range: what it sells, from whom, how fast, in which season. All made up."""

from __future__ import annotations

from dataclasses import dataclass, field
from decimal import Decimal

from stdnum import ean

SEASONS: dict[str, tuple[float, ...]] = {
    # Multiplier by month, January first.
    "spring": (0.6, 0.9, 1.6, 2.0, 1.8, 1.3, 0.9, 0.6, 0.5, 0.5, 0.6, 0.7),
    "harvest": (0.3, 0.3, 0.4, 0.6, 0.8, 1.1, 1.9, 2.4, 1.9, 1.0, 0.7, 0.6),
    "autumn": (0.8, 0.7, 0.7, 0.6, 0.4, 0.3, 0.5, 1.2, 2.2, 2.1, 1.5, 1.0),
    "gift": (0.7, 0.7, 0.8, 0.9, 0.9, 0.9, 0.8, 0.8, 0.9, 1.1, 1.7, 1.8),
    "even": (1.0,) * 12,
}


@dataclass(frozen=True)
class SupplierSpec:
    """A supplier: lead time in days, currency, order minimum."""

    code: str
    name: str
    currency: str
    lead: int
    lead_deviation: str
    minimum: int
    street: str
    city: str
    country: str


SUPPLIERS = (
    SupplierSpec("brackwater", "Brackwater Joinery", "EUR", 12, "2.0", 400, "The Sawpit, Weir Lane", "Brackwater", "IE"),
    SupplierSpec("aldermoor", "Aldermoor Textiles", "USD", 46, "6.0", 1500, "88 Loom Road", "Aldermoor", "US"),
    SupplierSpec("stavrin", "Stavrin Steelworks", "PLN", 60, "8.0", 6000, "ul. Kuta 4", "Stavrin", "PL"),
    SupplierSpec("quillmouth", "Quillmouth Glass", "EUR", 21, "3.0", 600, "Kiln Quay 7", "Quillmouth", "IE"),
    SupplierSpec("marlpit", "Marlpit Feeds", "EUR", 9, "1.5", 250, "Marlpit Farm", "Nether Marl", "IE"),
    SupplierSpec("oxbarrow", "Oxbarrow Press", "EUR", 16, "3.0", 150, "2 Chapel Steps", "Oxbarrow", "IE"),
)
RATES = {"USD": Decimal("1.0840"), "PLN": Decimal("4.2710")}


@dataclass(frozen=True)
class Spec:
    """An item: price with tax, cost in the supplier's currency, units a day over all places."""

    sku: str
    product: str
    category: str
    supplier: str
    cost: Decimal
    price: Decimal
    rate: float
    season: str = "even"
    options: dict[str, str] = field(default_factory=dict)
    pack: int = 1
    minimum: int = 0
    trend: float = 0.0
    expiry: bool = False
    kind: str = "stocked"
    weight: int = 500
    wagon: bool = False
    parts: tuple[tuple[str, int], ...] = ()
    # A kit costs what its parts do less so many per cent; without it, its own price.
    less: str = ""

    @property
    def title(self) -> str:
        """Product title with its options."""
        return " ".join([self.product, *self.options.values()])


def gtin(number: int) -> str:
    """A valid GTIN-13 of the in-store range (prefix 20-29)."""
    body = f"21{number:010d}"
    return body + ean.calc_check_digit(body)


def _row(sku: str, product: str, category: str, supplier: str, cost: str, price: str, rate: float, **more: object) -> Spec:
    return Spec(sku, product, category, supplier, Decimal(cost), Decimal(price), rate, **more)  # type: ignore[arg-type]


def _sizes(
    stem: str,
    product: str,
    category: str,
    supplier: str,
    cost: str,
    price: str,
    rates: dict[str, float],
    option: str,
    **more: object,
) -> list[Spec]:
    return [
        _row(f"{stem}-{size}", product, category, supplier, cost, price, rate, options={option: size}, **more)
        for size, rate in rates.items()
    ]


def _hives() -> list[Spec]:
    b, h = "brackwater", "Hives and frames"
    rows = []
    for frames in ("8", "10"):
        for wood, extra in (("pine", 0), ("cedar", 22)):
            rows.append(
                _row(
                    f"HIV-LAN-{frames}{wood[0].upper()}",
                    "Langford hive",
                    h,
                    b,
                    f"{38 + extra + int(frames)}.40",
                    f"{119 + extra * 2 + int(frames) * 2}.00",
                    0.55 if frames == "10" else 0.22,
                    season="spring",
                    options={"Frames": f"{frames} frame", "Wood": wood},
                    pack=6,
                    weight=14000,
                    trend=0.06,
                )
            )
    simple = [
        ("BRD-BOX-10", "Brood box, 10 frame", "17.20", "39.50", 0.9, 12),
        ("BRD-BOX-8", "Brood box, 8 frame", "15.90", "36.50", 0.3, 12),
        ("SUP-10", "Super, 10 frame", "12.80", "29.90", 1.6, 12),
        ("SUP-8", "Super, 8 frame", "11.90", "27.50", 0.5, 12),
        ("FLR-VAR", "Varroa floor", "13.50", "32.00", 0.6, 6),
        ("CRN-BRD", "Crown board", "7.40", "18.50", 0.8, 10),
        ("ROF-FLT", "Flat roof", "14.20", "34.00", 0.5, 6),
        ("ROF-GAB", "Gabled roof", "21.60", "49.00", 0.2, 6),
        ("STD-OAK", "Hive stand, oak", "19.80", "46.00", 0.25, 4),
        ("STD-PIN", "Hive stand, pine", "11.20", "27.00", 0.4, 4),
        ("ENT-BLK", "Entrance block", "1.10", "3.20", 1.1, 25),
        ("NUC-BOX", "Nucleus box, 5 frame", "16.40", "38.00", 0.5, 6),
        ("CLR-BRD", "Clearer board", "8.90", "21.00", 0.5, 10),
        ("FDR-TOP", "Top feeder, wood", "12.10", "28.50", 0.4, 6),
    ]
    rows += [_row(s, t, h, b, c, p, r, season="spring", pack=k, weight=3000, trend=0.05) for s, t, c, p, r, k in simple]
    for kind, cost in (("DN4", "0.62"), ("SN1", "0.58"), ("Manley", "0.74")):
        for count in (10, 50):
            price = Decimal(cost) * count * Decimal("2.15")
            rows.append(
                _row(
                    f"FRM-{kind.upper()[:3]}-{count}",
                    f"Frames {kind}, flat",
                    h,
                    b,
                    str(Decimal(cost) * count),
                    f"{price:.0f}.90",
                    1.3 if count == 10 else 0.5,
                    season="spring",
                    options={"Pack": f"{count}"},
                    pack=10 if count == 10 else 4,
                    weight=2200,
                    trend=0.04,
                    wagon=count == 10,
                )
            )
    rows += [
        _row("FND-BRD-10", "Wax foundation, brood, 10 sheets", h, b, "9.10", "21.50", 1.4, season="spring", pack=20, wagon=True),
        _row("FND-SUP-10", "Wax foundation, super, 10 sheets", h, b, "6.40", "15.50", 1.7, season="spring", pack=20, wagon=True),
        _row("QEX-WIR", "Queen excluder, wire", h, b, "8.30", "19.50", 0.7, season="spring", pack=10),
        _row("QEX-PLA", "Queen excluder, plastic", h, b, "3.10", "8.50", 0.6, season="spring", pack=10, wagon=True),
    ]
    return rows


def _clothing() -> list[Spec]:
    a, c = "aldermoor", "Clothing"
    return [
        *_sizes(
            "SUI-VEN",
            "Ventilated suit",
            c,
            a,
            "44.60",
            "129.00",
            {"XS": 0.1, "S": 0.35, "M": 0.74, "L": 0.85, "XL": 0.6, "XXL": 0.2},
            "Size",
            season="spring",
            pack=20,
            minimum=20,
            weight=1800,
            trend=0.18,
        ),
        *_sizes(
            "SUI-COT",
            "Cotton suit",
            c,
            a,
            "24.20",
            "69.00",
            {"S": 0.25, "M": 0.5, "L": 0.55, "XL": 0.35, "XXL": 0.12},
            "Size",
            season="spring",
            pack=20,
            minimum=20,
            weight=1300,
        ),
        *_sizes(
            "SMO-VEN",
            "Ventilated smock",
            c,
            a,
            "27.80",
            "79.00",
            {"S": 0.2, "M": 0.45, "L": 0.45, "XL": 0.25},
            "Size",
            season="spring",
            pack=20,
            minimum=20,
            weight=900,
            trend=0.1,
        ),
        *_sizes(
            "SUI-CHI",
            "Child's suit",
            c,
            a,
            "19.90",
            "54.00",
            {"110": 0.1, "128": 0.16, "146": 0.12},
            "Height",
            season="gift",
            pack=10,
        ),
        *_sizes(
            "GLV-GOA",
            "Goatskin gloves",
            c,
            a,
            "8.70",
            "24.50",
            {"7": 0.3, "8": 0.8, "9": 1.2, "10": 0.9, "11": 0.3},
            "Size",
            season="spring",
            pack=40,
            weight=250,
            wagon=True,
        ),
        *_sizes(
            "GLV-NIT",
            "Long nitrile gloves, pair",
            c,
            a,
            "1.60",
            "4.90",
            {"S": 0.5, "M": 1.1, "L": 1.2, "XL": 0.6},
            "Size",
            season="spring",
            pack=100,
            weight=90,
            wagon=True,
        ),
        _row("VEI-RND", "Round veil", c, a, "6.10", "17.50", 0.5, season="spring", pack=24, wagon=True),
        _row("VEI-SQR", "Square veil", c, a, "6.90", "19.50", 0.3, season="spring", pack=24),
        _row("BOO-GAI", "Ankle gaiters", c, a, "4.80", "13.50", 0.3, season="spring", pack=24),
    ]


def _steel() -> list[Spec]:
    s, t = "stavrin", "Tools and steel"
    simple = [
        ("SMK-BRS-S", "Smoker, small", "58.00", "32.00", 0.6, "spring", 12, True),
        ("SMK-BRS-L", "Smoker, large", "74.00", "39.50", 0.5, "spring", 12, True),
        ("TOL-JAY", "Hive tool, J pattern", "19.50", "11.90", 1.4, "spring", 48, True),
        ("TOL-STD", "Hive tool, standard", "16.20", "9.90", 1.0, "spring", 48, True),
        ("UNC-KNF", "Uncapping knife", "52.00", "28.00", 0.4, "harvest", 12, True),
        ("UNC-FRK", "Uncapping fork", "24.00", "14.50", 0.7, "harvest", 24, True),
        ("EXT-HND-2", "Hand extractor, 2 frame", "540.00", "259.00", 0.1, "harvest", 4, False),
        ("EXT-HND-4", "Hand extractor, 4 frame", "790.00", "369.00", 0.19, "harvest", 12, False),
        ("EXT-MOT-9", "Motor extractor, 9 frame", "3450.00", "1490.00", 0.04, "harvest", 2, False),
        ("TNK-025", "Settling tank, 25 kg", "248.00", "119.00", 0.25, "harvest", 6, False),
        ("TNK-050", "Settling tank, 50 kg", "342.00", "165.00", 0.2, "harvest", 6, False),
        ("TNK-100", "Settling tank, 100 kg", "515.00", "245.00", 0.08, "harvest", 4, False),
        ("GAT-040", "Honey gate, 40 mm", "38.00", "19.90", 0.4, "harvest", 24, False),
        ("STR-DBL", "Double strainer", "79.00", "39.00", 0.5, "harvest", 12, False),
        ("BKT-015", "Honey bucket, 15 kg", "17.00", "9.50", 1.3, "harvest", 40, False),
        ("BKT-030", "Honey bucket, 30 kg", "24.50", "13.50", 0.8, "harvest", 40, False),
        ("TRY-UNC", "Uncapping tray", "410.00", "198.00", 0.07, "harvest", 4, False),
        ("MLT-STM", "Steam wax melter", "620.00", "289.00", 0.06, "autumn", 2, False),
        ("BRU-BEE", "Bee brush", "9.80", "5.90", 0.9, "spring", 60, True),
        ("PEN-FLD", "Frame perch, folding", "61.00", "31.00", 0.15, "spring", 12, False),
    ]
    rows = [_row(k, n, t, s, c, p, r, season=z, pack=q, wagon=w, weight=900) for k, n, c, p, r, z, q, w in simple]
    for colour in ("white", "yellow", "red", "green", "blue"):
        rows.append(
            _row(
                f"MRK-{colour[:3].upper()}",
                "Queen marking pen",
                t,
                s,
                "8.40",
                "5.50",
                0.22,
                season="spring",
                options={"Colour": colour},
                pack=24,
                weight=30,
                wagon=colour == "white",
            )
        )
    rows += [
        _row("CAG-PRS", "Press-in queen cage", t, s, "11.20", "6.90", 0.3, season="spring", pack=24, weight=40),
        _row("CLP-QUE", "Queen clip", t, s, "6.30", "4.20", 0.4, season="spring", pack=48, weight=30, wagon=True),
        _row("TRP-WSP", "Wasp trap lid", t, s, "5.10", "3.60", 0.5, season="harvest", pack=60, weight=40),
    ]
    return rows


def _jars() -> list[Spec]:
    q, j = "quillmouth", "Jars and packing"
    rows = []
    for size, each in (("110", "0.29"), ("227", "0.34"), ("340", "0.38"), ("454", "0.42")):
        for count in (24, 72):
            cost = Decimal(each) * count
            rows.append(
                _row(
                    f"JAR-{size}-{count}",
                    f"Jar {size} ml with lid",
                    j,
                    q,
                    f"{cost:.2f}",
                    f"{cost * Decimal('2.05'):.0f}.50",
                    1.5 if count == 24 else 0.8,
                    season="harvest",
                    options={"Pack": f"{count}"},
                    pack=8 if count == 72 else 20,
                    weight=180 * count,
                    trend=0.08,
                    wagon=count == 24,
                )
            )
    for colour in ("gold", "white", "black"):
        for size in ("63", "70"):
            rows.append(
                _row(
                    f"LID-{size}-{colour[:3].upper()}",
                    f"Lids {size} mm, 100",
                    j,
                    q,
                    "11.80",
                    "24.90",
                    0.4,
                    season="harvest",
                    options={"Colour": colour},
                    pack=10,
                    weight=1100,
                )
            )
    rows += [
        _row("BOX-CMB-50", "Cut comb boxes, 50", j, q, "14.60", "32.00", 0.3, season="harvest", pack=10),
        _row("LBL-HNY-100", "Honey labels, 100", j, q, "5.20", "12.90", 0.9, season="harvest", pack=20, weight=150, wagon=True),
        _row("LBL-TMP-100", "Tamper strips, 100", j, q, "2.60", "6.90", 0.8, season="harvest", pack=40, weight=60),
        _row("GFT-BOX-3", "Gift box for three jars", j, q, "1.40", "3.90", 1.2, season="gift", pack=50, weight=180),
    ]
    return rows


def _feed() -> list[Spec]:
    m, f = "marlpit", "Feed"
    return [
        _row("SYR-005", "Feed syrup, 5 kg", f, m, "5.90", "12.90", 1.8, season="autumn", pack=20, expiry=True, weight=5200),
        _row("SYR-014", "Feed syrup, 14 kg", f, m, "14.30", "29.50", 1.3, season="autumn", pack=12, expiry=True, weight=14400),
        _row("FON-002", "Fondant, 2.5 kg", f, m, "4.10", "9.20", 1.6, season="autumn", pack=24, expiry=True, weight=2600),
        _row("FON-012", "Fondant, 12.5 kg", f, m, "15.80", "32.50", 0.9, season="autumn", pack=12, expiry=True, weight=12700),
        _row("PAT-POL-05", "Pollen patty, 0.5 kg", f, m, "2.30", "5.60", 1.0, season="spring", pack=30, expiry=True),
        _row("PAT-POL-1", "Pollen patty, 1 kg", f, m, "3.40", "8.40", 0.8, season="spring", pack=30, expiry=True, weight=1000),
        _row(
            "POL-SUB-1", "Pollen substitute, 1 kg", f, m, "6.20", "14.50", 0.4, season="spring", pack=12, expiry=True, weight=1000
        ),
        _row("CND-BRD", "Candy board, 1 kg", f, m, "3.90", "9.50", 0.5, season="autumn", pack=24, expiry=True, weight=1000),
        _row("FDR-RAP", "Rapid feeder", f, m, "2.90", "7.50", 0.8, season="autumn", pack=30, weight=300),
        _row("FDR-FRM", "Frame feeder", f, m, "4.10", "9.80", 0.4, season="autumn", pack=20, weight=500),
    ]


def _wax() -> list[Spec]:
    q, w = "quillmouth", "Wax and candles"
    rows = [
        _row(
            f"MLD-{shape[:3].upper()}",
            "Candle mould",
            w,
            q,
            "6.80",
            "16.50",
            0.14,
            season="gift",
            options={"Shape": shape},
            pack=10,
            weight=160,
        )
        for shape in ("skep", "pillar", "cone", "acorn", "owl")
    ]
    rows += [
        _row(
            f"WCK-{size}",
            "Candle wick, 10 m",
            w,
            q,
            "2.10",
            "5.40",
            0.25,
            season="gift",
            options={"Gauge": size},
            pack=30,
            weight=40,
        )
        for size in ("2", "3", "4")
    ]
    rows += [
        _row(
            f"WAX-BLK-{grams}",
            "Beeswax block",
            w,
            q,
            cost,
            price,
            0.3,
            season="gift",
            options={"Weight": f"{grams} g"},
            pack=20,
            weight=int(grams),
        )
        for grams, cost, price in (("250", "3.90", "8.90"), ("500", "7.40", "16.50"), ("1000", "13.90", "30.00"))
    ]
    return [*rows, _row("WAX-PEL-1", "Beeswax pellets, 1 kg", w, q, "14.60", "31.50", 0.25, season="gift", pack=12, weight=1000)]


BOOKS = (
    ("BOK-YEAR", "The Hive Through the Year", "9.80", "24.00", 0.5),
    ("BOK-FIRST", "First Swarm", "7.20", "18.00", 0.6),
    ("BOK-QUEEN", "Raising Queens at Home", "10.40", "26.00", 0.25),
    ("BOK-SICK", "Knowing a Sick Colony", "8.60", "21.50", 0.2),
    ("BOK-HONEY", "From Comb to Jar", "7.90", "19.50", 0.3),
    ("BOK-WAX", "The Wax Book", "6.90", "17.00", 0.18),
    ("BOK-FORAGE", "Forage for Small Gardens", "8.10", "19.90", 0.22),
    ("BOK-CHILD", "Nell and the Nine Hives", "4.60", "12.50", 0.35),
    ("BOK-LOG", "Apiary Log, three years", "5.10", "14.00", 0.4),
    ("BOK-SHOW", "Showing Honey", "5.80", "15.00", 0.08),
    ("BOK-MEAD", "Mead by the Gallon", "6.20", "16.00", 0.15),
    ("BOK-ARCH", "Old Hives of the West", "12.90", "34.00", 0.04),
)


def _others() -> list[Spec]:
    kit, service = "Kits", "Courses"
    return [
        *[_row(s, t, "Books", "oxbarrow", c, p, r, season="gift", pack=10, weight=400, wagon=r > 0.3) for s, t, c, p, r in BOOKS],
        _row(
            "KIT-START",
            "Starter kit",
            kit,
            "",
            "0",
            "281.39",
            0.16,
            season="spring",
            kind="bundle",
            parts=(
                ("HIV-LAN-10P", 1),
                ("FRM-DN4-10", 2),
                ("FND-BRD-10", 2),
                ("SMK-BRS-S", 1),
                ("TOL-JAY", 1),
                ("GLV-GOA-9", 1),
                ("BOK-FIRST", 1),
            ),
            less="5",
        ),
        _row(
            "KIT-HARVEST",
            "Harvest kit",
            kit,
            "",
            "0",
            "376.20",
            0.05,
            season="harvest",
            kind="bundle",
            parts=(("EXT-HND-2", 1), ("UNC-FRK", 1), ("STR-DBL", 1), ("BKT-030", 2), ("JAR-340-72", 1)),
            less="5",
        ),
        _row(
            "KIT-GIFT",
            "Three-jar gift set",
            kit,
            "",
            "0",
            "39.90",
            0.12,
            season="gift",
            kind="bundle",
            parts=(("GFT-BOX-3", 3), ("JAR-227-24", 1), ("LBL-HNY-100", 1)),
        ),
        _row(
            "KIT-QUEEN",
            "Queen marking kit",
            kit,
            "",
            "0",
            "15.50",
            0.1,
            season="spring",
            kind="bundle",
            parts=(("MRK-WHI", 1), ("CAG-PRS", 1), ("CLP-QUE", 1)),
        ),
        _row("CRS-BEGIN", "Day course: beginning", service, "", "0", "95.00", 0.3, season="spring", kind="service"),
        _row("CRS-QUEEN", "Day course: queens", service, "", "0", "120.00", 0.1, season="spring", kind="service"),
        _row("CRS-WAX", "Half day: wax and candles", service, "", "0", "60.00", 0.1, season="gift", kind="service"),
    ]


SPECS: tuple[Spec, ...] = tuple(_hives() + _clothing() + _steel() + _jars() + _feed() + _wax() + _others())
BY_SKU = {spec.sku: spec for spec in SPECS}
FIRST = (
    "Una",
    "Tomas",
    "Brid",
    "Marek",
    "Elsa",
    "Piers",
    "Noor",
    "Ciaran",
    "Hedda",
    "Ivo",
    "Maeve",
    "Otto",
    "Sunniva",
    "Reuben",
    "Alwyn",
    "Dervla",
)
LAST = (
    "Thorne",
    "Quill",
    "Hazeldon",
    "Brack",
    "Oduya",
    "Merrow",
    "Fenn",
    "Kestle",
    "Varga",
    "Tolland",
    "Ashby",
    "Lindqvist",
    "Corrie",
    "Penhale",
)
TOWNS = ("Larkmead", "Nether Marl", "Quillmouth", "Oxbarrow", "Weirford", "Brackwater", "Tarn Hollow", "Ballyhaze")
CLUBS = (
    "Weirford Beekeepers' Club",
    "Tarn Valley Apiarists",
    "Oxbarrow Honey Circle",
    "Quillmouth School Apiary",
    "Nether Marl Bee Society",
)
