"""The main path through a real browser: a file in, a remake out, and what happens when things die on the way."""

import os
import signal

import mido
import pytest
import soundfile

from tests.browser.conftest import WAIT_MS
from tests.browser.waits import undo_says

pytestmark = pytest.mark.browser

#: Level of what the page plays, dBFS, measured for half a second on the player's own output.
HEARD = """async () => {
  const { player } = await import('/static/studio/frame.js');
  const analyser = player.context.createAnalyser();
  analyser.fftSize = 16384;
  player.output.connect(analyser);
  await new Promise((r) => setTimeout(r, 500));
  const data = new Float32Array(analyser.fftSize);
  analyser.getFloatTimeDomainData(data);
  return 10 * Math.log10(data.reduce((s, v) => s + v * v, 0) / data.length + 1e-12);
}"""
AUDIBLE_DBFS = -60
#: Looks before a level counts as staying so: as long as any other wait, however slow the machine.
LOOK_MS = 300
LOOKS = WAIT_MS // LOOK_MS
POSITION = "async () => (await import('/static/studio/frame.js')).player.position()"


def heard(page, over_dbfs=AUDIBLE_DBFS):
    """Level once it lies over a level, or the last one read: what is switched on may take a while where the machine is busy."""
    for _ in range(LOOKS):
        level = page.evaluate(HEARD)
        if level > over_dbfs:
            break
        page.wait_for_timeout(LOOK_MS)
    return level


def quiet(page, under_dbfs=AUDIBLE_DBFS):
    """Level once it lies under a level, or the last one read."""
    for _ in range(LOOKS):
        level = page.evaluate(HEARD)
        if level < under_dbfs:
            break
        page.wait_for_timeout(LOOK_MS)
    return level


def upload(page, path):
    page.goto("/")
    page.set_input_files("#file", str(path))


def test_from_a_file_to_an_export(first_page, real_track, tmp_path):
    page = first_page
    upload(page, real_track)
    page.get_by_role("button", name="Draft a remake").wait_for()
    page.locator("article .portrait path").first.wait_for()

    page.locator("article h2 a").click()
    page.locator("#score svg rect.refbox").first.wait_for()
    bpm = page.locator("#f-tempo + p .v").inner_text()
    assert 60 < float(bpm) < 200

    page.get_by_role("button", name="Draft a remake").click()
    page.locator(".cell").first.wait_for()

    # It plays while it is matched, and plays on when the matched song takes its place; looped, for it could be over before.
    page.keyboard.press("l")
    page.keyboard.press("Space")
    page.wait_for_function("document.querySelector('#play')?.classList.contains('is-playing')")
    undo_says(page, "Matched to the reference")
    assert page.locator("#matching").count() == 0
    assert page.locator("#player-says").inner_text() == ""
    assert page.locator("#play.is-playing").count() == 1
    page.keyboard.press("l")

    # Listen: the position moves, both sides sound, flipping keeps the place.
    remake_level = heard(page)
    before = page.evaluate(POSITION)
    page.keyboard.press("x")
    assert page.locator("#hear-reference").get_attribute("aria-pressed") == "true"
    reference_level = heard(page)
    assert page.evaluate(POSITION) > before > 0
    assert remake_level > AUDIBLE_DBFS
    assert reference_level > AUDIBLE_DBFS
    assert "equal loudness" in page.locator("#level").inner_text()
    page.keyboard.press("x")

    # Switch off all that plays here: the change is heard while it plays.
    page.keyboard.press("Home")
    page.keyboard.press("l")
    column = page.locator(".cell[data-cell$='.0'][aria-pressed='true']")
    while left := column.count():
        column.first.focus()
        page.keyboard.press("Enter")
        page.wait_for_function(
            "n => document.querySelectorAll(\".cell[data-cell$='.0'][aria-pressed='true']\").length < n", arg=left
        )
    assert quiet(page, remake_level - 20) < remake_level - 20
    assert page.get_by_role("button", name="Undo: ").is_enabled()

    # Undo by the keyboard until the draft stands again.
    said = "document.getElementById('undo').dataset.tip"
    while page.locator("#undo").is_enabled():
        before = page.evaluate(said)
        page.locator("h1").click()
        page.keyboard.press("Control+z")
        page.wait_for_function(f"before => {said} !== before", arg=before)
    assert heard(page) > AUDIBLE_DBFS
    page.keyboard.press("l")
    page.keyboard.press("Space")

    page.get_by_role("link", name="Gap").click()
    page.locator(".figures-table tbody tr").first.wait_for()
    assert "matched" in page.locator(".figures-table caption").inner_text()
    # The place was kept from page to page.
    assert page.evaluate(POSITION) >= 0

    page.get_by_role("link", name="Handover").click()
    for name, check in (("MIDI", lambda p: mido.MidiFile(p).tracks), ("WAV", lambda p: soundfile.info(p).frames)):
        row = page.locator("tr", has_text=name)
        with page.expect_download() as download:
            row.get_by_role("button").click()
        path = tmp_path / download.value.suggested_filename
        download.value.save_as(path)
        assert check(str(path))
    assert page.problems == []


def test_bad_files_get_a_sentence_and_the_shelf_stays_whole(first_page, server, tmp_path):
    page = first_page
    page.goto("/")
    for name, content, says in (
        ("letter.wav", b"dear producer, this is a letter" * 40, "can't be read as audio"),
        ("empty.flac", b"", "empty"),
        ("holiday.mp4", b"\x00\x00\x00\x20ftypisom" + b"\x00" * 900, "doesn't look like audio"),
        ("holiday.wav", b"\x00\x00\x00\x20ftypisom" + b"\x00" * 900, "video"),
    ):
        path = tmp_path / name
        path.write_bytes(content)
        page.set_input_files("#file", str(path))
        page.get_by_text(says).first.wait_for()
    page.reload()
    assert page.get_by_role("button", name="Draft a remake").count() == 0
    assert server.answers()


def test_a_killed_worker_is_started_again_and_finishes_its_job(page, house, club_file):
    upload(page, club_file)
    page.locator(".job-says").first.wait_for()
    pids = house.worker_pids()
    assert pids
    for pid in pids:
        os.kill(pid, signal.SIGKILL)
    row = page.locator("article.track").first
    row.get_by_role("button", name="Draft a remake").wait_for()
    assert house.answers() and not set(house.worker_pids()) & set(pids)


def test_keyboard_help_and_zoom(page, house):
    page.goto("/")
    page.keyboard.press("?")
    assert page.locator("#keys").is_visible()
    page.keyboard.press("Escape")
    page.locator("article h2 a").first.click()
    page.locator("#score svg rect.refbox").first.wait_for()
    # 200 % zoom of a 1280 pixel window: nothing is cut off sideways.
    page.set_viewport_size({"width": 640, "height": 400})
    page.wait_for_function("() => document.documentElement.scrollWidth <= window.innerWidth + 1")
    assert page.problems == []
