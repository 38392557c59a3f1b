"""What Larkmead says of some of its products, and how long its feed keeps."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

# Words that a product's title begins with, to its description.
DESCRIPTIONS: Mapping[str, str] = {
    "Ventilated suit": (
        "<p>Three layers of open mesh: air comes through, a sting does not.</p>"
        "<ul><li>Fencing veil that folds back</li><li>Zips at ankle and wrist</li><li>Two pockets for hive tools</li></ul>"
        "<p><strong>Washing:</strong> by hand and without the veil, dried in the shade.</p>"
    ),
    "Smoker": (
        "<p>Stainless firebox with a guard, and bellows of oiled leather that can be replaced.</p>"
        "<h3>Burns</h3><ol><li>Light dry shavings.</li><li>Add pellets once it draws.</li><li>Top with green grass.</li></ol>"
    ),
    "Pollen patty": "<p>Pollen from our own traps, frozen for three weeks, bound with syrup.</p>"
    "<p>Lay it over the brood nest <em>before</em> the willow flowers.</p>",
    "Fondant": "<p>Fine sugar paste for winter feed. Cut the pack open below and set it over the cluster.</p>",
}
# What some products are called and described by in French, by their title.
IN_FRENCH: Mapping[str, tuple[str, str]] = {
    "Smoker, small": (
        "Enfumoir, petit",
        "<p>Foyer en inox avec grille de protection, soufflet en cuir huilé qui se remplace.</p>",
    ),
    "Smoker, large": (
        "Enfumoir, grand",
        "<p>Foyer en inox avec grille de protection, soufflet en cuir huilé qui se remplace.</p>",
    ),
    "Hive tool, J pattern": ("Lève-cadre, crochet en J", ""),
}
WORDS_IN_FRENCH: Mapping[str, str] = {"Tools and steel": "Outils et acier", "large": "grand", "gift": "cadeau"}
# Days after arrival, by the first letters of the SKU.
KEEPS: Mapping[str, int] = {"SYR": 540, "FON": 365, "PAT": 270, "POL": 540, "CND": 365}


def description_of(title: str) -> str:
    """What is said of a product, if anything."""
    return next((text for words, text in DESCRIPTIONS.items() if title.startswith(words)), "")


# What somebody wrote at the web shop since, by the product's title there.
AT_THE_SHOP: Mapping[str, Mapping[str, Any]] = {
    "Smoker, small": {
        "text": DESCRIPTIONS["Smoker"].replace("can be replaced", "can be replaced without tools"),
        "labels": ["starter kit"],
    },
}
# What the trade shop says of its goods, by SKU.
AT_THE_TRADE_SHOP: Mapping[str, Mapping[str, Any]] = {
    "TRD-PAL-HIV": {
        "text": "Forty flat hives on a pallet, glued and screwed by your club in an afternoon.",
        "maker": "Brackwater",
        "labels": ["pallet"],
        "details": {"Made in": "Ireland", "Gross weight": "610 kg", "Timber": "western cedar"},
    },
    "TRD-DRM-SYR": {
        "text": "Invert syrup in a steel drum, for yards with a pump.",
        "maker": "Marlpit",
        "details": {"Made in": "Ireland", "Gross weight": "301 kg", "Keeps": "18 months"},
    },
}
