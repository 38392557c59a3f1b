"""What Larkmead says of some of its products, and how long its feed keeps."""

from __future__ import annotations

from collections.abc import Mapping

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
# Days after arrival, by the first letters of the SKU.
KEEPS: Mapping[str, int] = {"SYR": 540, "FON": 365, "PAT": 270, "POL": 540, "CND": 365}


def description_of(title: str) -> str:
    """What is said of a product, if anything."""
    return next((text for words, text in DESCRIPTIONS.items() if title.startswith(words)), "")
