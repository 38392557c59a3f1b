"""The Working: how a number came about, as a short sum with a rule above the result."""

from __future__ import annotations

from dataclasses import asdict, dataclass, field
from decimal import Decimal
from typing import Any, Literal

Kind = Literal["term", "subtotal", "result", "fact"]


@dataclass(frozen=True)
class Step:
    """One line of the sum. `value` is signed or an operand, as `op` says; `link` opens a document."""

    label: str
    value: Decimal | str | None = None
    note: str = ""
    op: str = ""
    kind: Kind = "term"
    unit: str = ""
    link: str = ""


@dataclass(frozen=True)
class Working:
    """A title that asks the question, the steps, and a sentence that says what matters."""

    title: str
    subtitle: str = ""
    steps: tuple[Step, ...] = field(default_factory=tuple)
    note: str = ""

    @property
    def result(self) -> Decimal | str | None:
        """The value of the last result line, or None."""
        results = [step.value for step in self.steps if step.kind == "result"]
        return results[-1] if results else None

    def as_dict(self) -> dict[str, Any]:
        """Plain data for storing or sending; decimals become strings."""
        data = asdict(self)
        for step in data["steps"]:
            if isinstance(step["value"], Decimal):
                step["value"] = plain(step["value"])
        return data


def plain(value: Decimal) -> str:
    """A decimal as people write it: no exponent, no superfluous zeros after the point beyond two."""
    text = str(value)
    if text.endswith(".000"):  # as most quantities are kept
        text = text[:-4]
    elif "E" in text:
        text = format(value, "f")
    if "." in text:
        whole, part = text.split(".")
        part = part.rstrip("0")
        if len(part) == 1:
            part += "0"
        text = f"{whole}.{part}" if part else whole
    return text if text not in ("-0",) else "0"
