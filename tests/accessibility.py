"""What axe says of a page."""

from __future__ import annotations

from pathlib import Path

from playwright.sync_api import Page

AXE = Path(__file__).with_name("browser") / "vendor" / "axe.min.js"


def violations(page: Page) -> list[str]:
    """What axe finds wrong with the page as it is, once it is ready."""
    page.wait_for_selector("body:not([aria-busy])")
    page.evaluate(AXE.read_text())
    found = page.evaluate("axe.run(document, {resultTypes: ['violations']})")["violations"]
    return [f"{v['id']}: {node['html'][:160]} {node['failureSummary'][:200]}" for v in found for node in v["nodes"]]
