"""Texts that people format: what may stand in them, and nothing else."""

from __future__ import annotations

import re
from html import escape

import nh3

TAGS = {"p", "br", "strong", "em", "h3", "ul", "ol", "li", "a"}
# What other programs write for the same.
_SAME = {"b": "strong", "i": "em", **dict.fromkeys(("h1", "h2", "h4", "h5", "h6"), "h3")}
MOST_ROUNDS = 5
_MARKUP = re.compile(r"</?[a-zA-Z][^<>]*>")
_NAMES = re.compile(rf"<(/?)({'|'.join(_SAME)})(?=[\s>/])", re.IGNORECASE)


def formatted(text: str) -> str:
    """A description as it is kept: plain text becomes paragraphs; of formatted text what is not among TAGS goes, with
    scripts and styles, and links lead to the web or to a mail address only."""
    # Browsers write a space that is typed beside a tag as one that does not break.
    text = text.replace("\r\n", "\n").replace("\r", "\n").replace("&nbsp;", " ").replace("\xa0", " ")
    if not _MARKUP.search(text):
        return "".join(f"<p>{'<br>'.join(escape(part, quote=False).split(chr(10)))}</p>" for part in _paragraphs(text))
    same = _NAMES.sub(lambda found: f"<{found[1]}{_SAME[found[2].lower()]}", text)
    kept = _clean(same)
    # Where tags are closed in another order than they were opened, what is cleaned is built otherwise once it is read anew.
    for _ in range(MOST_ROUNDS):
        again = _clean(kept)
        if again == kept:
            break
        kept = again
    if not nh3.clean(kept, tags=set()).strip():
        return ""
    return kept if _MARKUP.search(kept) else f"<p>{kept}</p>"


def _clean(text: str) -> str:
    cleaned = nh3.clean(text, tags=TAGS, attributes={"a": {"href"}}, url_schemes={"http", "https", "mailto"}, link_rel=None)
    return str(cleaned).strip()


def _paragraphs(text: str) -> list[str]:
    return [part.strip() for part in re.split(r"\n\s*\n", text) if part.strip()]
