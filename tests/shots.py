"""Pictures of the main views, taken from the running demo."""

from __future__ import annotations

import argparse
import os
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

# Debian's Chromium; the one without windows, where Debian offers it, shows the same pages for a fifth less work.
BROWSER = next((path for path in ("/usr/bin/chromium-headless-shell", "/usr/bin/chromium") if Path(path).exists()), "chromium")
FLAGS = [
    "--headless",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    # A page lives for seconds: what makes long-lived ones quicker costs more than it brings, a quarter of all the work.
    "--js-flags=--no-opt --no-maglev --single-threaded-gc",
    "--in-process-gpu",
    "--num-raster-threads=1",
]
VIEWS = {
    "today": "/",
    "range": "/range",
    "pairing": "/range/pairing",
    "listing": "/range/listings/3",
    "shelf": "/shelf",
    "orders": "/orders",
    "order": "/orders",
    "buying": "/buying",
    "purchase-order": "/buying/orders",
    "forecasts": "/buying/forecasts",
    "suppliers": "/buying/suppliers",
    "supplier": "/buying/suppliers",
    "forecast": "/buying/forecasts",
    "agreement": "/books",
    "journal": "/books/journal",
    "accounts": "/books/accounts",
    "connections": "/connections",
    "connection": "/connections/1",
    "publish": "/connections/2/publish",
    "item": "/range",
    "product": "/range",
    "import": "/range/sheets",
    "prices": "/range/prices",
    "price-list": "/range/prices/1",
    "customers": "/orders/customers",
    "customer": "/orders/customers/1",
    "snags": "/connections/snags",
    "runs": "/connections/runs",
    "run": "/connections/runs",
    "moves": "/shelf/moves",
    "transfer": "/shelf/transfers/2",
    "opening": "/shelf/opening",
    "new": "/connections/new",
}
OPENED = {"supplier": ".rows tbody a", "order": ".rows tbody a", "purchase-order": ".rows tbody a", "forecast": ".rows tbody a"}
WORKING = {
    "buying": "button[data-fig=suggestion]",
    "shelf": "button[data-fig=available]",
    "agreement": "button[data-fig=drift]",
    "order": "button[data-fig=profit]",
    "item": "button[data-fig=price]",
}


def browser_flags() -> list[str]:
    """Root needs the sandbox off."""
    return [*FLAGS, "--no-sandbox"] if os.geteuid() == 0 else FLAGS


def visit(page: Page, base: str, name: str) -> None:
    """Open a view as a person would, with a Working where it shows one."""
    page.goto(base + VIEWS[name])
    page.wait_for_load_state("networkidle")
    if name == "item":
        page.goto(base + "/range?q=ventilated+suit+M")
        page.click(".rows tbody tr:nth-child(1) a")
    if name == "product":
        page.goto(base + "/range?q=ventilated+suit+M")
        page.click(".rows tbody tr:nth-child(1) a")
        page.click("text=Change")
    if name == "price-list":
        page.click("text=Change prices")
        form = page.get_by_role("form", name="Change prices")
        form.get_by_role("textbox", name="Per cent").fill("3")
        form.get_by_role("textbox", name="Ending").fill("0.95")
        page.wait_for_timeout(1500)
    if name == "run":
        page.locator("tbody tr", has_text="Quantities out").first.locator("a").first.click()
        page.locator("table[aria-label=Calls] button").first.click()
    if name in OPENED:
        page.click(OPENED[name])
    page.wait_for_timeout(700)
    if name in WORKING and page.locator(WORKING[name]).count():
        page.locator(WORKING[name]).first.click()
        page.wait_for_timeout(900)


def main() -> None:
    """Command line."""
    parser = argparse.ArgumentParser()
    parser.add_argument("folder", nargs="?", default="docs/screenshots")
    parser.add_argument("--only", default="")
    parser.add_argument("--dark", action="store_true")
    parser.add_argument("--base", default="http://127.0.0.1:8070")
    parser.add_argument("--user", default="manager")
    parser.add_argument("--width", type=int, default=1280)
    options = parser.parse_args()
    Path(options.folder).mkdir(parents=True, exist_ok=True)
    with sync_playwright() as play:
        browser = play.chromium.launch(executable_path=BROWSER, args=browser_flags())
        page = browser.new_page(
            viewport={"width": options.width, "height": 800}, color_scheme="dark" if options.dark else "light"
        )
        page.on("console", lambda m: print("console:", m.text) if m.type == "error" else None)
        page.goto(options.base)
        page.fill("input[name=username]", options.user)
        page.fill("input[name=password]", "larkmead")
        page.click("button.do")
        page.wait_for_selector(".station-bar")
        wanted = options.only.split(",") if options.only else list(VIEWS)
        for name in wanted:
            visit(page, options.base, name)
            page.screenshot(path=f"{options.folder}/{name}{'-dark' if options.dark else ''}.png")
        browser.close()


if __name__ == "__main__":
    main()
