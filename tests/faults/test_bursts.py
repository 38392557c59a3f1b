"""Under every fault, alone and mixed, and through every kill -9: nothing lost, nothing twice, all agreed in the end."""

from __future__ import annotations

import os
import random
import signal
import subprocess
import time
from collections import Counter
from pathlib import Path
from threading import Timer
from typing import Any

import pytest
from django.db import connection
from django.db.models import Exists, OuterRef

from standins.faults import FAULTS
from tests import depth
from tests.faults.house import ROOT, SHOPS, TILLS, House, wait_until
from yuvrel.channels.models import Run, Snag

# Faults that would stop everything while they last strike half of the calls; the others all.
SHARE = {"busy": 0.5, "broken": 0.5, "dropped": 0.5, "expired": 0.5, "nonsense": 0.5, "slow": 0.1, "page_twice": 0.5}

ACCOUNTS = (*SHOPS, "hedge", *TILLS, "books")

# How many orders a burst has; the same for all, so that one undisturbed burst says what each of them must change.
SIZE = depth.drawn(200, 60)


@pytest.fixture(scope="module")
def undisturbed(house: House) -> Counter[str]:
    """What a burst changes when nothing is wrong."""
    return change(house)


def change(house: House, size: int = SIZE, **hooks: Any) -> Counter[str]:
    """Run a burst to its end; what it changed."""
    before = house.state()
    house.burst(size, **hooks)
    for account in ACCOUNTS:
        house.faults(account)
    wait_until(house.quiet, "everything is agreed again")
    house.verify()
    after = house.state()
    after.subtract(before)
    return after


def test_an_undisturbed_burst_does_what_was_asked(undisturbed: Counter[str]) -> None:
    found, tenth = undisturbed, SIZE // 10
    assert found["orders cancelled"] == found["orders shipped"] == tenth
    assert found["orders closed"] == 6
    assert found["orders ready"] == SIZE - 2 * tenth + SIZE // 20
    assert found["documents invoice"] == tenth + 6
    assert all(found[f"ledger {code}"] == found[f"booked {role}"] for code, role in (("1300", "inventory"), ("4000", "sales")))


# Each fault alone takes a while: script/test faults puts several together, script/test long takes them in turn.
TOGETHER = [
    ("webhook_lost", "page_twice", "busy", "clock_slow"),
    ("webhook_twice", "dropped", "line_refused", "page_empty"),
    ("webhook_swapped", "webhook_late", "expired", "broken"),
    ("webhook_unsigned", "nonsense", "clock_fast", "slow"),
]
CASES = [(name,) for name in FAULTS] if depth.LONG else TOGETHER


def test_every_fault_is_among_the_cases() -> None:
    assert sorted(name for names in CASES for name in names) == sorted(FAULTS)


@pytest.mark.parametrize("faults", CASES, ids="+".join)
def test_a_burst_under_faults(house: House, undisturbed: Counter[str], faults: tuple[str, ...]) -> None:
    for seed, account in enumerate(ACCOUNTS):
        house.faults(account, seed=seed, **{name: SHARE.get(name, 1.0) / len(faults) ** 0.5 for name in faults})
    assert change(house) == undisturbed


def test_a_burst_under_a_random_mixture(house: House, undisturbed: Counter[str]) -> None:
    chance = random.Random(11)

    def shuffle(step: int) -> None:
        if step % (SIZE // 4) == 0:
            for account in ACCOUNTS:
                on = {name: round(chance.uniform(0.1, 0.4), 2) for name in chance.sample(list(FAULTS), 5) if name != "slow"}
                house.faults(account, seed=step, **on)

    assert change(house, during=shuffle) == undisturbed


# The shops and tills of Larkmead take 28 orders on a mean day (of the 822 days of the demo's history).
A_DAY = 280
# Share of a till's sales in each hour of the day: nothing before nine, a lunch hour, an end at six.
AT_THE_TILL = {9: 3, 10: 5, 11: 7, 12: 9, 13: 9, 14: 6, 15: 6, 16: 7, 17: 5, 18: 2}


@pytest.mark.skipif(not depth.LONG, reason="a day takes two minutes: script/test long")
def test_a_day_of_ten_times_the_volume_under_random_faults(house: House) -> None:
    chance, hours = random.Random(23), 24
    rung = {till: 0 for till in TILLS}

    def hour(step: int) -> None:
        """Each hour other faults at every account; the tills sell offline and send up at lunch and in the evening."""
        now, rest = divmod(step * hours, int(A_DAY * 1.5))
        if rest >= hours:
            return
        for account in ACCOUNTS:
            on = {name: round(chance.uniform(0.05, 0.4), 2) for name in chance.sample(list(FAULTS), 5) if name != "slow"}
            house.faults(account, seed=step + 1, **on)
        for till, share in zip(TILLS, (1.0, 0.2), strict=True):
            for _ in range(int(AT_THE_TILL.get(now, 0) * share)):
                house.ring_up(till, rung[till])
                rung[till] += 1
            if now in (13, 19):
                house.upload(till)

    before = house.state()
    change(house, during=hour, size=A_DAY)
    after = house.state()
    assert after["orders closed"] - before["orders closed"] == sum(rung.values()) + 6
    assert min(rung.values()) > 5


@pytest.mark.parametrize("what", ["worker", "web"])
def test_a_process_killed_in_the_middle(house: House, undisturbed: Counter[str], what: str) -> None:
    def strike(step: int) -> None:
        if step in (SIZE * 9 // 20, SIZE * 9 // 10, SIZE * 5 // 4):
            wait_until(lambda: what in house.running, f"the {what} was started again")
            house.kill(what)
            # Its supervisor starts it again while business goes on.
            Timer(1.5, house.start, [what]).start()

    assert change(house, during=strike) == undisturbed
    # A run that was broken off is closed by the next of its kind on its connection; others may be under way.
    later = Run.objects.filter(connection=OuterRef("connection"), kind=OuterRef("kind"), started_at__gt=OuterRef("started_at"))
    wait_until(lambda: not Run.objects.filter(Exists(later), state="running").exists(), "what broke off is closed", 60)


def test_postgresql_killed_in_the_middle(house: House, undisturbed: Counter[str]) -> None:
    def strike(step: int) -> None:
        if step in (SIZE // 2, SIZE * 11 // 10):
            connection.close()
            kill_database()
            time.sleep(0.5)
            start_database()

    assert change(house, during=strike) == undisturbed
    assert not Snag.objects.filter(resolved_at=None).exists()


def _script(text: str) -> str:
    found = subprocess.run(["bash", "-c", f". script/lib.sh; {text}"], cwd=ROOT, capture_output=True, text=True, check=True)
    return found.stdout.strip()


def kill_database() -> None:
    """kill -9 of the server and of all it started."""
    pid = int(Path(_script('home=$(pg_home); as_pg head -n 1 "$home/postmaster.pid"')).name)
    children = subprocess.run(["pgrep", "-P", str(pid)], capture_output=True, text=True, check=False).stdout.split()
    for process in [pid, *map(int, children)]:
        os.kill(process, signal.SIGKILL)


def start_database() -> None:
    """Start it again, as its supervisor would; it recovers by itself."""
    _script("DB_PORT=$YUVREL_TEST_CLUSTER_PORT; load_env; start_database")
