"""Texts for channels from templates over an item's facts, in a sandbox: a template can read and format, nothing else."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from functools import lru_cache
from html.parser import HTMLParser
from typing import Any

from jinja2 import StrictUndefined, Template, TemplateError, TemplateSyntaxError, nodes
from jinja2.sandbox import ImmutableSandboxedEnvironment, SecurityError

from .errors import BadInputError

# Characters of a template, and of what may come of it.
MOST_TEMPLATE, MOST_TEXT = 4000, 20_000
# The facts that a template may name, as an item that has them all.
EXAMPLE: dict[str, Any] = {
    **dict.fromkeys(("title", "product", "sku", "barcode", "brand", "category", "description"), "text"),
    "formatted_description": "<p>text</p>",
    "country": "IE",
    "options": {"Size": "small"},
    "tags": ["one", "two"],
    "weight_grams": 250,
    "length_mm": 120,
    "width_mm": 80,
    "height_mm": 40,
    "price": Decimal("24.60"),
}
FACTS = tuple(EXAMPLE)
# Of the library's own filters those that make nothing larger than what they are given.
FILTERS = (
    "upper",
    "lower",
    "title",
    "capitalize",
    "trim",
    "default",
    "first",
    "last",
    "join",
    "int",
    "round",
    "sort",
    "striptags",
)


class _Sandbox(ImmutableSandboxedEnvironment):
    """No way to what lies beside the facts, and no arithmetic that grows without end."""

    intercepted_binops = frozenset({"*", "**", "%"})

    def call_binop(self, context: Any, operator: str, left: Any, right: Any) -> Any:
        """Numbers are multiplied and divided, within reason; texts are neither repeated nor formatted."""
        if operator == "**" or not all(isinstance(one, (int, float, Decimal)) for one in (left, right)):
            raise SecurityError("only numbers can be multiplied or divided")
        return super().call_binop(context, operator, left, right)


# What ends a line of plain text, what ends a paragraph, and what is not read out.
_LINES, _BLOCKS, _SILENT = {"br", "li"}, {"p", "h3", "ul", "ol"}, {"script", "style"}


class _Plain(HTMLParser):
    """Gathers what a reader would read."""

    def __init__(self) -> None:
        super().__init__(convert_charrefs=True)
        self.parts: list[str] = []
        self.silent = self.points = 0

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        """A point of a list begins with a dash; a break ends a line."""
        self.silent += tag in _SILENT
        if tag == "li":
            self.points += 1
            self.parts.append("– ")
        elif tag == "br":
            self.parts.append("\n")

    def handle_endtag(self, tag: str) -> None:
        """A point ends its line, a paragraph leaves one free."""
        self.silent -= tag in _SILENT
        self.points -= tag == "li"
        # A paragraph within a point ends with the point.
        if tag in _BLOCKS and not (tag == "p" and self.points):
            self.parts.append("\n\n")
        elif tag in _LINES:
            self.parts.append("\n")

    def handle_data(self, data: str) -> None:
        """Text, as it is read."""
        if not self.silent:
            self.parts.append(re.sub(r"\s+", " ", data))


def plain(text: Any) -> str:
    """A formatted text as plain text: paragraphs with a free line between, points of a list with a dash."""
    reader = _Plain()
    reader.feed(str(text))
    reader.close()
    lines = [line.strip() for line in "".join(reader.parts).split("\n")]
    return re.sub(r"\n{3,}", "\n\n", "\n".join(lines)).strip()


def money(value: Any, places: int = 2) -> str:
    """An amount with its decimals."""
    return f"{Decimal(str(value)):.{max(0, min(4, int(places)))}f}"


def cut(text: Any, most: int) -> str:
    """A text of at most so many characters, ended at a whole word."""
    whole = " ".join(str(text).split())
    if len(whole) <= most:
        return whole
    short = whole[: max(0, int(most))]
    return short.rsplit(" ", 1)[0].rstrip(" ,;·-") if " " in short else short


def listed(values: Any, word: str = "and") -> str:
    """Several texts as one reads them: a, b and c."""
    texts = [str(one) for one in (values.values() if isinstance(values, Mapping) else values)]
    return texts[0] if len(texts) == 1 else f"{', '.join(texts[:-1])} {word} {texts[-1]}" if texts else ""


def measured(millimetres: Any, unit: str = "cm") -> str:
    """A length in cm, m or mm, without needless decimals."""
    by = {"mm": 1, "cm": 10, "m": 1000}
    if unit not in by:
        raise SecurityError(f"a length is given in {listed(list(by), 'or')}")
    return f"{(Decimal(str(millimetres)) / by[unit]).normalize():f} {unit}"


def _environment() -> _Sandbox:
    made = _Sandbox(undefined=StrictUndefined, autoescape=False)
    made.filters = {name: made.filters[name] for name in FILTERS}
    made.filters |= {"money": money, "cut": cut, "listed": listed, "measured": measured, "plain": plain}
    made.globals.clear()
    return made


_SANDBOX = _environment()


@lru_cache(maxsize=512)
def _compiled(text: str) -> Template:
    # What could run for ever is refused as it is read.
    for kind, said in REFUSED.items():
        for node in _SANDBOX.parse(text).find_all(kind):
            inner = node.find(nodes.For) if isinstance(node, nodes.For) else node
            if inner is not None:
                raise TemplateSyntaxError(said, inner.lineno)
    return _SANDBOX.from_string(text)


REFUSED: dict[type[nodes.Node], str] = {
    nodes.Assign: "a template keeps nothing",
    nodes.AssignBlock: "a template keeps nothing",
    nodes.For: "one loop inside another is too many",
    nodes.Macro: "a template defines nothing of its own",
    nodes.CallBlock: "a template defines nothing of its own",
    nodes.Include: "a template stands by itself",
    nodes.Import: "a template stands by itself",
    nodes.FromImport: "a template stands by itself",
    nodes.Extends: "a template stands by itself",
    # Last: a macro is told of as what it is.
    nodes.Call: "nothing can be called",
}


def check_template(text: str, field: str) -> str:
    """The template, if it can be used. Raises BadInputError naming the line and what is wrong there.

    It is tried on an item that has every fact, so that a misspelt one is found before anything is published.
    """
    if len(text) > MOST_TEMPLATE:
        raise BadInputError(f"A template has at most {MOST_TEMPLATE:,} characters.", field=field)
    render(text, EXAMPLE, field)
    return text


def render(text: str, facts: Mapping[str, Any], field: str) -> str:
    """What a template says of an item; runs of spaces become one. Raises BadInputError naming the line."""
    try:
        found = ""
        for piece in _compiled(text).generate(facts):
            found += piece
            if len(found) > MOST_TEXT:
                raise BadInputError(f"It comes to more than {MOST_TEXT:,} characters.", field=field)
    except TemplateSyntaxError as error:
        raise BadInputError(f"Line {error.lineno}: {(error.message or '').rstrip('.')}.", field=field) from error
    except (TemplateError, ArithmeticError, ValueError, TypeError, AttributeError, LookupError) as error:
        raise BadInputError(f"{_where(error)}{str(error) or type(error).__name__}.", field=field) from error
    return "\n".join(" ".join(line.split()) for line in found.strip().splitlines())


def _where(error: BaseException) -> str:
    """The line of the template in which something went wrong, if it can be told."""
    trace, line = error.__traceback__, 0
    while trace is not None:
        if trace.tb_frame.f_code.co_filename == "<template>":
            line = trace.tb_lineno
        trace = trace.tb_next
    return f"Line {line}: " if line else ""


class _Lenient(dict[str, Any]):
    """Options of an item: one that it does not have is empty."""

    def __missing__(self, name: str) -> str:
        return ""


def value_of(template: str, facts: Mapping[str, Any], field: str) -> str:
    """What a template fills an attribute with; empty where the item lacks the option it names. Raises BadInputError."""
    return render(template, {**facts, "options": _Lenient(facts.get("options") or {})}, field)


def check_value_template(text: str, field: str) -> str:
    """The template of an attribute, if it can be used. Raises BadInputError naming the line."""
    value_of(text, EXAMPLE, field)
    return text


@dataclass(frozen=True)
class Filled:
    """Attributes filled by rule: the values; what went wrong with a template; values that the channel does not allow, as
    words of a map of values (attribute: value)."""

    values: dict[str, str]
    wrong: list[str]
    unknown: list[str]


def fill(
    asked: Iterable[tuple[str, Sequence[str]]], templates: Mapping[str, str], meant: Mapping[str, str], facts: Mapping[str, Any]
) -> Filled:
    """Fill what a category asks, each attribute with the values it allows (none: any), from templates over an item's facts.

    A value that the channel spells otherwise is told as it spells it; `meant` says what it calls others.
    """
    found = Filled({}, [], [])
    for name, allowed in asked:
        if not templates.get(name):
            continue
        try:
            said = value_of(templates[name], facts, name)
        except BadInputError as error:
            found.wrong.append(f"{name}: {error.detail}")
            continue
        if not said:
            continue
        word = f"{name}: {said}"
        told = meant.get(word) or next((one for one in allowed if one.casefold() == said.casefold()), said)
        found.values[name] = told
        if allowed and told not in allowed:
            found.unknown.append(word)
    return found


def missing(required: Iterable[str], given: Mapping[str, str]) -> list[str]:
    """The required attributes that have no value."""
    return [name for name in required if not str(given.get(name, "")).strip()]
