"""A browser, the real worker in a process of its own, and the stand-ins, around a live server."""

from __future__ import annotations

import hashlib
import inspect
import os
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from types import FrameType, SimpleNamespace
from typing import Any

import pytest
from django.conf import settings
from django.core.signals import request_finished, request_started
from django.db import connection
from django.test import Client
from playwright._impl import _sync_base
from playwright.sync_api import expect

from standins import hooks
from tests.channels.conftest import Standins, _serving, standins  # noqa: F401  (the fixtures themselves)
from tests.shots import BROWSER, browser_flags
from tests.world import make_company, make_user
from yuvrel.people.models import User
from yuvrel.people.roles import Role

ROOT = Path(__file__).resolve().parents[2]
AXE = (ROOT / "web/node_modules/axe-core/axe.min.js").read_text()
FAILED = ROOT / ".data" / "failed"


# How a page looks, whatever its numbers, its links and the name of one's role are: two that are the same in this are cut off in the same places.
AS_SEEN = """() => [...document.querySelectorAll('body *')].map((e) => {
  const own = [...e.childNodes].filter((n) => n.nodeType === 3).map((n) => n.data.trim()).join(' ').replace(/\\d+/g, '#').replace(/manager|buyer|stockkeeper|bookkeeper|viewer/g, 'role');
  return e.tagName + '.' + e.getAttribute('class') + ':' + own + (e.disabled ? '!' : '');
}).join('\\n')"""
# The rules that look at how a text stands out, from its ground and as a link from the text around it.
BY_TEXT = ("color-contrast", "link-in-text-block")
# Of the rules that take long those that have nothing to say: each target is 24 pixels wide and high with no other over it,
# or a circle of 24 pixels about its middle touches no other and no other's circle (WCAG 2.2, 2.5.8); each box that scrolls
# can be reached by the keyboard; no style sets spacing. In doubt axe is asked.
NOTHING_TO_SAY = """() => {
  const off = [], ROLES = 'button link checkbox combobox listbox menuitem menuitemcheckbox menuitemradio option radio searchbox slider spinbutton switch tab textbox treeitem gridcell scrollbar separator';
  const WIDGETS = 'a[href], button, input, select, textarea, summary, ' + ROLES.split(' ').map((r) => `[role=${r}]`).join();
  const targets = [...document.querySelectorAll(WIDGETS)].filter((e) => !e.closest('.sr-only') && e.checkVisibility())
    .map((e) => [e, e.getBoundingClientRect()]).filter(([, r]) => r.width && r.height)
    .map(([e, r]) => ({e, r, small: r.width < 24 || r.height < 24, x: r.left + r.width / 2, y: r.top + r.height / 2}));
  const apart = (a, r) => Math.hypot(Math.max(r.left - a.x, 0, a.x - r.right), Math.max(r.top - a.y, 0, a.y - r.bottom)) > 12;
  const clear = (a, b) => a.small || b.small
    ? (a.small ? b.small ? Math.hypot(a.x - b.x, a.y - b.y) > 24 && apart(a, b.r) && apart(b, a.r) : apart(a, b.r) : apart(b, a.r))
    : a.r.left >= b.r.right - 1 || b.r.left >= a.r.right - 1 || a.r.top >= b.r.bottom - 1 || b.r.top >= a.r.bottom - 1;
  if (targets.every((a, n) => targets.slice(n + 1).every((b) => clear(a, b)))) off.push('target-size');
  const scrolls = (e) => [['X', 'Width'], ['Y', 'Height']].some(([axis, size]) =>
    e[`scroll${size}`] > e[`client${size}`] + 12 && /auto|scroll/.test(getComputedStyle(e)[`overflow${axis}`]));
  const reached = (e) => e.tabIndex >= 0 || e.querySelector('a[href], button:enabled, [tabindex="0"]');
  if (![...document.querySelectorAll('body *')].some((e) => scrolls(e) && !reached(e))) off.push('scrollable-region-focusable');
  if (!document.querySelector('[style*="spacing"], [style*="line-height"]')) off.push('avoid-inline-spacing');
  return off;
}"""
# The texts that can be seen, by what decides how they stand out; of each kind the first three.
TEXTS = """() => {
  const kinds = new Map(), grounds = new Map();
  const clear = (colour) => /^rgba\\(.*, 0\\)$|\\/ 0\\)$/.test(colour);
  const ground = (e) => {
    if (!e) return '';
    if (grounds.has(e)) return grounds.get(e);
    const s = getComputedStyle(e);
    const lifted = /fixed|absolute|sticky/.test(s.position) ? e.tagName + '.' + e.getAttribute('class') : '';
    const own = [clear(s.backgroundColor) ? '' : s.backgroundColor, s.backgroundImage === 'none' ? '' : s.backgroundImage,
      s.opacity === '1' ? '' : s.opacity, s.filter === 'none' ? '' : s.filter, lifted].join('');
    const found = ground(e.parentElement) + (own ? '<' + own : '');
    grounds.set(e, found);
    return found;
  };
  const among = (link) => {
    const font = ({fontSize, fontWeight, fontStyle, fontFamily}) => [fontSize, fontWeight, fontStyle, fontFamily];
    let block = link.parentElement;
    while (block.parentElement && getComputedStyle(block).display.startsWith('inline')) block = block.parentElement;
    const s = getComputedStyle(link), b = getComputedStyle(block);
    const alone = block.textContent.trim() === link.textContent.trim();
    return [alone, s.display, s.color, s.textDecorationLine, s.borderBottomStyle, s.borderBottomWidth, ...font(s), b.color, ...font(b)].join();
  };
  for (const e of document.querySelectorAll('body *')) {
    const typed = e.matches('input, select, textarea');
    if (!typed && ![...e.childNodes].some((n) => n.nodeType === 3 && n.data.trim())) continue;
    if (!e.checkVisibility({opacityProperty: true, visibilityProperty: true}) || !e.getClientRects().length) continue;
    const s = getComputedStyle(e);
    const off = e.closest(':disabled, [aria-disabled=true]') ? 'off' : '';
    const link = e.closest('a, [role=link]');
    const kind = [typed ? e.tagName : '', off, link ? among(link) : '', s.color, s.fontSize, s.fontWeight, s.textShadow, ground(e)].join('|');
    if (!kinds.has(kind)) kinds.set(kind, []);
    if (kinds.get(kind).length < 3) kinds.get(kind).push(link ?? e);
  }
  return [...kinds];
}"""
# Kinds of texts that stood out well enough in this process, or in another of the run.
_readable: set[str] = set()
# Where the processes of one run tell each other what they have looked at.
_looks: list[Path] = []


@pytest.fixture(scope="session", autouse=True)
def _shared_looks(tmp_path_factory: pytest.TempPathFactory, worker_id: str) -> None:
    base = tmp_path_factory.getbasetemp()
    _looks[:] = [(base if worker_id == "master" else base.parent) / "looks"]


def is_new_look(page: Any, what: str) -> bool:
    """Whether nobody in this run has done `what` with a view that looks just so; from now on somebody has."""
    return is_new(page.evaluate(AS_SEEN), what)


def is_new(one: str, what: str) -> bool:
    """Whether nobody in this run has done `what` with this one; from now on somebody has."""
    try:
        _note(one, what).touch(exist_ok=False)
    except FileExistsError:
        return False
    return True


def _note(one: str, what: str) -> Path:
    folder = _looks[0] / what
    folder.mkdir(parents=True, exist_ok=True)
    return folder / hashlib.sha256(one.encode()).hexdigest()


FOLLOW = """(path) => {
  const link = document.createElement('a');
  link.href = path;
  document.body.append(link);
  link.click();
  link.remove();
}"""


def follow(page: Any, path: str) -> None:
    """Open a view as a click on a link does, without loading the application anew."""
    page.evaluate(FOLLOW, path)
    page.wait_for_function("(path) => location.pathname + location.search === path", arg=path)


def sign_in(page: Any, base: str, name: str) -> None:
    """Somebody signs in: as a person does, once in a run for each name, and as one who comes back afterwards."""
    if is_new(name, "signed in"):
        page.context.clear_cookies()
        page.goto(base)
        page.get_by_label("Name").fill(name)
        page.get_by_label("Password").fill("larkmead")
        page.get_by_role("button", name="Sign in").click()
    else:
        client = Client()
        client.force_login(User.objects.get(username=name))
        session = client.cookies[settings.SESSION_COOKIE_NAME].value
        page.context.add_cookies([{"name": settings.SESSION_COOKIE_NAME, "value": session, "url": base}])
        page.goto(base)
    expect(page.get_by_role("navigation", name="Stations")).to_be_visible(timeout=60_000)


@pytest.fixture(scope="session", autouse=True)
def _sync_api() -> Iterator[None]:
    """Playwright's sync API keeps an event loop running, which Django would refuse to work beside."""
    os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = "true"
    yield
    del os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"]


def _called_from(context: int = 0) -> list[inspect.FrameInfo]:
    """The nearest calls, for Playwright to name the step in an error. Its own way looks every frame's module up among all
    that are loaded, for each step: a third of the work of these tests and of the server in their process."""
    found: list[inspect.FrameInfo] = []
    frame: FrameType | None = sys._getframe(1)
    while frame and len(found) < 20:
        found.append(inspect.FrameInfo(frame, frame.f_code.co_filename, frame.f_lineno, frame.f_code.co_name, None, None))
        frame = frame.f_back
    return found


_sync_base.inspect = SimpleNamespace(stack=_called_from)  # type: ignore[attr-defined]


@pytest.fixture(scope="session", autouse=True)
def _lasting_connections(django_db_setup: None) -> None:
    """The server's threads hold on to the database between two requests, as the product's do by their pool: signing in
    anew for each took longer than most of what is asked for."""
    connection.settings_dict["CONN_MAX_AGE"] = None


@pytest.fixture(scope="session")
def browser_type_launch_args() -> dict[str, Any]:
    return {"executable_path": BROWSER, "args": browser_flags()}


@pytest.fixture(scope="session")
def browser_context_args() -> dict[str, Any]:
    """The size everything is designed for."""
    return {"viewport": {"width": 1280, "height": 800}, "reduced_motion": "reduce"}


class Served:
    """How many requests the live server is answering just now."""

    def __init__(self) -> None:
        self.now = 0
        self._lock = threading.Lock()
        request_started.connect(self._started)
        request_finished.connect(self._finished)

    def _started(self, **_: Any) -> None:
        with self._lock:
            self.now += 1

    def _finished(self, **_: Any) -> None:
        with self._lock:
            self.now -= 1


@pytest.fixture(scope="session")
def _served() -> Served:
    return Served()


@pytest.fixture
def nobody_left(transactional_db: None, live_server: Any, browser: Any, _served: Served) -> Iterator[None]:
    """No page is open and no request under way any more when the tables are emptied: it would read them just then, and each would wait for the other."""
    yield
    for context in browser.contexts:
        for page in context.pages:
            page.close()
    hooks._waiting.clear()
    until(lambda: _served.now == 0)


@pytest.fixture(scope="session")
def _hooks() -> None:
    hooks.start()


@pytest.fixture(scope="session")
def _workers(django_db_setup: None) -> Iterator[Callable[[str], None]]:
    """Starts and stops the worker of this process's database, each when it says so."""
    database = connection.settings_dict
    address = f"postgres://{database['USER']}:{database['PASSWORD']}@{database['HOST']}:{database['PORT']}/{database['NAME']}"
    ready = subprocess.Popen(
        [sys.executable, "-m", "tests.browser.workers"],
        cwd=ROOT,
        env={**os.environ, "DATABASE_URL": address, "YUVREL_NO_POOL": "0"},
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        text=True,
    )
    assert ready.stdin and ready.stdout
    into, out = ready.stdin, ready.stdout

    def do(what: str) -> None:
        into.write(f"{what}\n")
        into.flush()
        assert out.readline(), "the worker could not be started"

    yield do
    into.close()
    ready.wait(30)
    out.close()


@pytest.fixture
def house(
    nobody_left: None,
    live_server: Any,
    standins: Standins,  # noqa: F811
    settings: Any,
    _workers: Callable[[str], None],
    _hooks: None,
) -> Iterator[Standins]:
    """A company with people and nothing else, its worker running, webhooks on."""
    settings.PUBLIC_ADDRESS = live_server.url
    make_company()
    for role in (Role.MANAGER, Role.VIEWER):
        make_user(role)
    _workers("start")
    yield standins
    _workers("stop")
    empty_queue()


def empty_queue() -> None:
    """The queue's tables are not emptied with the others: the jobs of one test are not the next one's."""
    with connection.cursor() as cursor:
        cursor.execute(
            "TRUNCATE procrastinate_jobs, procrastinate_events, procrastinate_periodic_defers, procrastinate_workers CASCADE"
        )


@pytest.hookimpl(wrapper=True)
def pytest_runtest_makereport(item: Any, call: Any) -> Any:
    """A failing test keeps its picture."""
    report = yield
    page = item.funcargs.get("page") if hasattr(item, "funcargs") else None
    if report.failed and call.when == "call" and page is not None:
        FAILED.mkdir(parents=True, exist_ok=True)
        page.screenshot(path=FAILED / f"{item.name}.png")
    return report


def until(true: Callable[[], bool]) -> None:
    """What is written down or worked out a moment after the screen shows the step that led to it."""
    end = time.monotonic() + 60
    while not true():
        assert time.monotonic() < end, "did not come about"
        time.sleep(0.1)


def assert_accessible(page: Any) -> None:
    """No violation of WCAG 2.2 AA by axe: in its structure, and in how its texts stand out."""
    _axe(page)
    off = [*BY_TEXT, *page.evaluate(NOTHING_TO_SAY)]
    rules = {"runOnly": ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"], "resultTypes": ["violations"]}
    rules["rules"] = {rule: {"enabled": False} for rule in off}  # type: ignore[assignment]
    _no_violation(page, page.evaluate("(rules) => axe.run(document, rules)", rules))
    assert_readable(page)


def assert_readable(page: Any) -> None:
    """No text of a page stands out too little by axe. What decides that are its colour, size and weight and the grounds
    behind it, so of the texts that are alike in these three of a page are looked at, once in a run: looking at each of
    them on every page took most of the time of all checks in the browser."""
    kinds = [kind for kind in page.evaluate(f"() => ({TEXTS})().map(([kind]) => kind)") if kind not in _readable]
    told = [kind for kind in kinds if not _note(kind, "readable").exists()]
    if not told:
        _readable.update(kinds)
        return
    _axe(page)
    outcome = page.evaluate(
        f"""([told, rules]) => axe.run(({TEXTS})().filter(([kind]) => told.includes(kind)).flatMap(([, some]) => some),
        {{runOnly: {{type: 'rule', values: rules}}, resultTypes: ['violations']}})""",
        [told, BY_TEXT],
    )
    _no_violation(page, outcome)
    for kind in told:
        _note(kind, "readable").touch()
    _readable.update(kinds)


def _axe(page: Any) -> None:
    if not page.evaluate("typeof axe === 'object'"):
        page.evaluate(AXE)


def _no_violation(page: Any, outcome: Any) -> None:
    found = [(v["id"], [n["html"][:160] for n in v["nodes"][:3]]) for v in outcome["violations"]]
    assert found == [], f"{page.url}: {found}"
