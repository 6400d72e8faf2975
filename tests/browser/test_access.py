"""Every page for everybody: axe-core finds nothing in either film, labels say what is seen, targets are large enough, and at 200 %
nothing is wider than the window."""

from pathlib import Path

import pytest

from tests.browser.conftest import opened

pytestmark = pytest.mark.browser

AXE = Path(__file__).parents[2] / "node_modules" / "axe-core" / "axe.min.js"
#: Beside axe's own set: names that hold what is written, targets of 24 px (WCAG 2.5.3, 2.5.8).
RULES = {"label-content-name-mismatch": {"enabled": True}, "target-size": {"enabled": True}}
#: Notes and hits are as large as they are long: their place on the axis is what they say (WCAG 2.5.8, essential).
GRID = '/class="(note|hit)/'
FOUND = f"""(only) => axe.run(document, {{ ...only, resultTypes: ['violations'] }}).then((found) => [
  found.passes.length, found.violations.flatMap((v) => v.nodes.filter((n) => !(v.id === 'target-size' && {GRID}.test(n.html)))
    .map((n) => `${{v.id}}: ${{n.html.slice(0, 160)}}`))])"""
#: What is looked at in each film: in the second what a film can change.
FILMS = {"light": {"rules": RULES}, "dark": {"runOnly": ["color-contrast", "link-in-text-block"]}}


def pages(house):
    """Every page: its address, and what is there when it is."""
    return {
        "shelf": ("/", ".portrait"), "survey": (house.reference, "#score svg rect.refbox"),
        "printed sheet": (f"{house.reference}sheet/", "h1"),
        "two side by side": (f"{house.reference}beside/2/", "#beside-score svg"),
        "target": (house.target, "#score svg rect.refbox"), "new target": ("/targets/new/", "h1"),
        "plan": (house.remake, "[data-own]"), "notes": (f"{house.remake}parts/bass/notes/", ".note"),
        "hits": (f"{house.remake}parts/kick/notes/", ".hit"), "sound": (f"{house.remake}parts/bass/", ".pad"),
        "balance": (f"{house.remake}balance/", ".lane .energy"), "gap": (f"{house.remake}gap/", "#gap-spectrum .ownline"),
        "handover": (f"{house.remake}handover/", ".handover"),
    }  # fmt: skip


def test_axe_finds_nothing_on_any_page_in_either_film(chromium, house):
    page = opened(chromium, house.address, bypass_csp=True)
    wrong = {}
    for name, (address, there) in pages(house).items():
        page.goto(address)
        page.locator(there).first.wait_for()
        page.add_script_tag(path=str(AXE))
        for film, only in FILMS.items():
            page.emulate_media(color_scheme=film)
            passes, found = page.evaluate(FOUND, only)
            assert passes > (0 if "runOnly" in only else 10), name
            if found:
                wrong[name, film] = found[:5]
    page.context.close()
    assert not wrong


def test_nothing_is_cut_at_twice_the_size(chromium, house):
    """A window of 1280 px at 200 % shows 640: pages may scroll down, not sideways, and the transport is all there."""
    page = opened(chromium, house.address, device_scale_factor=2)
    page.set_viewport_size({"width": 640, "height": 400})
    for name, (address, there) in pages(house).items():
        page.goto(address)
        page.locator(there).first.wait_for(state="attached")
        assert page.evaluate("document.documentElement.scrollWidth <= window.innerWidth + 1"), name
        last = page.locator(".rail li a")
        if last.count():
            box = last.last.bounding_box()
            assert box["x"] + box["width"] <= 640, f"{name}: the last step of the rail ends at {box['x'] + box['width']}"
        if page.locator("#play").count():
            assert page.locator("#play").bounding_box()["y"] < 400, name
            reach = "() => { const t = document.querySelector('.transport'); return [t.scrollWidth, t.clientWidth]; }"
            wide, seen = page.evaluate(reach)
            assert wide <= seen + 1, f"{name}: {wide} px of transport in {seen}"
    page.context.close()
