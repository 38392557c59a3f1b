"""Texts for channels from templates over an item's facts, in a sandbox: a template can read and format, nothing else."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from contextvars import ContextVar
from dataclasses import dataclass
from decimal import Decimal, InvalidOperation
from functools import lru_cache, wraps
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
# Of the library's own filters those that make nothing larger than what they are given, and take no argument that could.
FILTERS = ("upper", "lower", "title", "capitalize", "trim", "default", "first", "last", "striptags")
TESTS = ("defined", "undefined", "none", "string", "number", "odd", "even", "in", "eq", "ne", "lt", "le", "gt", "ge")
# Brackets within brackets, characters that all filters of one rendering may be given, digits of a number before the
# point, and decimals that may be asked for.
MOST_NESTED, MOST_WORK, MOST_DIGITS, MOST_PLACES = 30, 1_000_000, 15, 6
# What one rendering has been given to work on so far.
_worked: ContextVar[list[int]] = ContextVar("worked")


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


def number(value: Any) -> Decimal:
    """A number that a text or a fact gives, of at most MOST_DIGITS digits before the point or zeros behind it.

    Raises ValueError.
    """
    try:
        found = Decimal(str(value).strip()[:60])
    except InvalidOperation as error:
        raise ValueError(f"{str(value)[:30]!r} is not a number") from error
    if not found.is_finite() or (found and abs(found.adjusted()) >= MOST_DIGITS):
        raise ValueError(f"{str(value)[:30]!r} is larger, or smaller, than what can be written")
    return found


def _places(places: Any) -> int:
    return max(0, min(MOST_PLACES, int(number(places))))


def money(value: Any, places: int = 2) -> str:
    """An amount with its decimals."""
    return f"{number(value):.{min(4, _places(places))}f}"


def rounded(value: Any, places: int = 0, way: str = "common") -> Decimal:
    """A number with so many decimals: half up, or always up (*ceil*) or down (*floor*)."""
    ways = {"common": "ROUND_HALF_UP", "ceil": "ROUND_CEILING", "floor": "ROUND_FLOOR"}
    if way not in ways:
        raise SecurityError(f"a number is rounded {listed(list(ways), 'or')}")
    found = number(value)
    return found.quantize(Decimal(1).scaleb(-_places(places)), ways[way])


def whole(value: Any) -> int:
    """The whole part of a number."""
    return int(number(value))


def joined(values: Any, between: str = "") -> str:
    """Several texts as one. Raises SecurityError where it is longer than any text may be."""
    texts = [str(one) for one in _entries(values)]
    if sum(map(len, texts)) + len(str(between)) * len(texts) > MOST_TEXT:
        raise SecurityError(f"it comes to more than {MOST_TEXT:,} characters")
    return str(between).join(texts)


def ordered(values: Any, reverse: bool = False) -> list[Any]:
    """Several texts or numbers in their order."""
    return sorted(_entries(values), key=lambda one: (str(type(one)), one), reverse=bool(reverse))


def _entries(values: Any) -> list[Any]:
    """What a filter over several is given: entries of a list, values of options, or a text as the one it is."""
    if isinstance(values, Mapping):
        return list(values.values())
    return list(values) if isinstance(values, list | tuple) else [values]


def cut(text: Any, most: int) -> str:
    """A text of at most so many characters, ended at a whole word."""
    whole = " ".join(str(text).split())
    if len(whole) <= most:
        return whole
    short = whole[: max(0, int(most))]
    return short.rsplit(" ", 1)[0].rstrip(" ,;·-") if " " in short else short


def listed(values: Any, word: str = "and") -> str:
    """Several texts as one reads them: a, b and c."""
    texts = [str(one) for one in _entries(values)]
    return texts[0] if len(texts) == 1 else f"{joined(texts[:-1], ', ')} {word} {texts[-1]}" if texts else ""


def measured(millimetres: Any, unit: str = "cm") -> str:
    """A length in cm, m or mm, without needless decimals."""
    by = {"mm": 1, "cm": 10, "m": 1000}
    if unit not in by:
        raise SecurityError(f"a length is given in {listed(list(by), 'or')}")
    return f"{(number(millimetres) / by[unit]).normalize():f} {unit}"


def _weighed(filtering: Callable[..., Any]) -> Callable[..., Any]:
    """A filter that counts what it is given: all of them together work on so much and no more."""

    @wraps(filtering)
    def counted(*given: Any, **named: Any) -> Any:
        spent = _worked.get()
        spent[0] += 50 + sum(_size(one) for one in (*given, *named.values()))
        if spent[0] > MOST_WORK:
            raise SecurityError("this is more work than a text may take")
        return filtering(*given, **named)

    return counted


def _size(value: Any) -> int:
    if isinstance(value, str):
        return len(value)
    return sum(len(str(one)) for one in _entries(value)) if isinstance(value, list | tuple | Mapping) else 1


def _environment() -> _Sandbox:
    made = _Sandbox(undefined=StrictUndefined, autoescape=False)
    ours: dict[str, Callable[..., Any]] = {"money": money, "cut": cut, "listed": listed, "measured": measured, "plain": plain}
    ours |= {"round": rounded, "int": whole, "join": joined, "sort": ordered}
    made.filters = {name: _weighed(made.filters[name]) for name in FILTERS}
    made.filters |= {name: _weighed(filtering) for name, filtering in ours.items()}
    made.tests = {name: made.tests[name] for name in TESTS}
    made.globals.clear()
    return made


_SANDBOX = _environment()


@lru_cache(maxsize=512)
def _compiled(text: str) -> Template:
    # What could run for ever is refused as it is read, and so is all that nobody has said is harmless.
    _check_nesting(text)
    tree = _SANDBOX.parse(text)
    for kind, said in REFUSED.items():
        for node in tree.find_all(kind):
            inner = node.find(nodes.For) if isinstance(node, nodes.For) else node
            if inner is not None:
                raise TemplateSyntaxError(said, inner.lineno)
    for one in tree.find_all(nodes.Node):
        if not isinstance(one, ALLOWED):
            raise TemplateSyntaxError("a template can read, choose, count and format, nothing else", one.lineno)
        if isinstance(one, nodes.Const) and isinstance(one.value, int | float) and not isinstance(one.value, bool):
            _check_const(one)
    return _SANDBOX.from_string(tree)


def _check_nesting(text: str) -> None:
    at = 0
    for place, mark in enumerate(text):
        at = at + 1 if mark in "([" else max(0, at - 1) if mark in ")]" else at
        if at > MOST_NESTED:
            raise TemplateSyntaxError(f"more than {MOST_NESTED} brackets within one another", text.count("\n", 0, place) + 1)


def _check_const(node: nodes.Const) -> None:
    try:
        number(node.value)
    except ValueError as error:
        raise TemplateSyntaxError(str(error), node.lineno) from error


ALLOWED: tuple[type[nodes.Node], ...] = (
    *(nodes.Template, nodes.Output, nodes.TemplateData, nodes.Name, nodes.Const, nodes.Getattr, nodes.Getitem, nodes.Slice),
    *(nodes.Filter, nodes.Test, nodes.Keyword, nodes.If, nodes.CondExpr, nodes.For, nodes.Compare, nodes.Operand),
    *(nodes.Tuple, nodes.List, nodes.And, nodes.Or, nodes.Not, nodes.Neg, nodes.Pos, nodes.Concat),
    *(nodes.Add, nodes.Sub, nodes.Mul, nodes.Div, nodes.FloorDiv, nodes.Mod),
)
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
    nodes.Pow: "only numbers can be multiplied or divided, and none by itself",
    # Last: a macro is told of as what it is.
    nodes.Call: "nothing can be called",
}


# What renders a template over facts, naming the field in its refusals: `render`, or the same in a process of its own.
Say = Callable[[str, Mapping[str, Any], str], str]


def check_template(text: str, field: str, say: Say | None = None) -> str:
    """The template, if it can be used. Raises BadInputError naming the line and what is wrong there.

    It is tried on an item that has every fact, so that a misspelt one is found before anything is published.
    """
    if len(text) > MOST_TEMPLATE:
        raise BadInputError(f"A template has at most {MOST_TEMPLATE:,} characters.", field=field)
    (say or render)(text, EXAMPLE, field)
    return text


def render(text: str, facts: Mapping[str, Any], field: str) -> str:
    """What a template says of an item; runs of spaces become one. Raises BadInputError naming the line.

    What it may use is on a list, what its filters are given is bounded, and so is what comes of it.
    """
    _worked.set([0])
    try:
        found, length = [], 0
        for piece in _compiled(text).generate(facts):
            found.append(piece)
            length += len(piece)
            if length > MOST_TEXT:
                raise BadInputError(f"It comes to more than {MOST_TEXT:,} characters.", field=field)
    except TemplateSyntaxError as error:
        raise BadInputError(f"Line {error.lineno}: {(error.message or '').rstrip('.')}.", field=field) from error
    except (RecursionError, MemoryError, SyntaxError) as error:
        raise BadInputError("It is nested too deeply.", field=field) from error
    except (TemplateError, ArithmeticError, ValueError, TypeError, AttributeError, LookupError) as error:
        raise BadInputError(f"{_where(error)}{(str(error) or type(error).__name__)[:300]}.", field=field) from error
    return "\n".join(" ".join(line.split()) for line in "".join(found).strip().splitlines())


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


def value_of(template: str, facts: Mapping[str, Any], field: str, say: Say | None = None) -> str:
    """What a template fills an attribute with; empty where the item lacks the option it names. Raises BadInputError."""
    return (say or render)(template, {**facts, "options": _Lenient(facts.get("options") or {})}, field)


def check_value_template(text: str, field: str, say: Say | None = None) -> str:
    """The template of an attribute, if it can be used. Raises BadInputError naming the line."""
    value_of(text, EXAMPLE, field, say)
    return text


@dataclass(frozen=True)
class Filled:
    """Attributes filled by rule: the values; what went wrong with a template; values that the channel does not allow, as
    words of a map of values (attribute: value)."""

    values: dict[str, str]
    wrong: list[str]
    unknown: list[str]


def fill(
    asked: Iterable[tuple[str, Sequence[str]]],
    templates: Mapping[str, str],
    meant: Mapping[str, str],
    facts: Mapping[str, Any],
    say: Say | None = None,
) -> Filled:
    """Fill what a category asks, each attribute with the values it allows (none: any), from templates over an item's facts.

    A value that the channel spells otherwise is told as it spells it; `meant` says what it calls others.
    """
    found = Filled({}, [], [])
    for name, allowed in asked:
        if not templates.get(name):
            continue
        try:
            said = value_of(templates[name], facts, name, say)
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
