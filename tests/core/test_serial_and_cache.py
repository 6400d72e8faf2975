"""Documents from type hints, and the cache that remembers renders."""

import gc
import tempfile
import threading
from dataclasses import dataclass
from typing import Annotated, Literal

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ersatz.core.errors import UnusableDocument
from ersatz.core.mixdown.cache import REMEMBERED, Memory, RenderCache
from ersatz.core.serial import Most, Within, from_json, read_json, to_json


@dataclass(frozen=True)
class Buoy:
    name: str
    depth_m: float


@dataclass(frozen=True)
class Harbour:
    buoys: tuple[Buoy, ...]
    kind: Literal["tidal", "lock"]
    depths: dict[str, float]
    master: str | None = None
    berths: int = 4


numbers = st.floats(-1e15, 1e15)
buoys = st.builds(Buoy, st.text(max_size=8), numbers)
harbours = st.builds(
    Harbour,
    st.lists(buoys, max_size=4).map(tuple),
    st.sampled_from(["tidal", "lock"]),
    st.dictionaries(st.text(max_size=4), numbers, max_size=3),
    st.none() | st.text(max_size=5),
    st.integers(0, 99),
)


@given(harbours)
def test_a_document_survives_the_way_through_json(harbour):
    assert from_json(Harbour, to_json(harbour)) == harbour


@dataclass(frozen=True)
class Rope:
    strands: Annotated[int, Within(1, 16)]
    names: Annotated[tuple[Annotated[str, Most(3)], ...], Most(2)] = ()


@pytest.mark.parametrize(
    ("data", "place"),
    [({"strands": 0}, "strands"), ({"strands": 17}, "strands"), ({"strands": 2.5}, "strands"), ({"strands": True}, "strands"),
     ({"strands": float("nan")}, "strands"), ({"strands": 10**400}, "strands"), ({"strands": 1, "names": ["abcd"]}, r"names\[0\]"),
     ({"strands": 1, "names": ["a", "b", "c"]}, "names")],
)  # fmt: skip
def test_bounds_stand_in_the_types(data, place):
    with pytest.raises(UnusableDocument, match=place):
        from_json(Rope, data)
    assert from_json(Rope, {"strands": 16.0, "names": ["abc"]}) == Rope(16, ("abc",))


@pytest.mark.parametrize(
    "text",
    ["NaN", "[Infinity]", '{"a": -Infinity}', "1e999", "9007199254740993", "-" + "9" * 6000, "1." + "0" * 6000, "[" * 100_000,
     '{"a":' * 100_000, "", "{", '"\\ud800"', '{"a\\u0000": 1}', b"\xff\xfe", b"\x00"],
)  # fmt: skip
def test_one_reader_refuses_what_no_document_may_hold(text):
    with pytest.raises(UnusableDocument):
        read_json(text)


def test_the_reader_takes_everything_else():
    assert read_json('{"a": [1, -2.5, 9007199254740992, null, true, "ä"]}') == {"a": [1, -2.5, 1 << 53, None, True, "ä"]}


def test_fields_left_out_have_their_defaults_and_unknown_ones_are_ignored():
    data = {"buoys": [], "kind": "lock", "depths": {}, "flag": "of another version"}
    assert from_json(Harbour, data) == Harbour((), "lock", {})


def test_numbers_that_json_doesnt_know_become_null():
    assert to_json(Buoy("North", float("nan"))) == {"name": "North", "depth_m": None}
    assert to_json((float("inf"), 1.5)) == [None, 1.5]


@pytest.mark.parametrize(
    ("change", "place"),
    [
        ({"kind": "dry"}, "kind"),
        ({"buoys": {"name": "North"}}, "buoys"),
        ({"buoys": [{"name": "North"}]}, "depth_m"),
        ({"buoys": [{"name": 5, "depth_m": 1.0}]}, "name"),
        ({"depths": []}, "depths"),
        ({"depths": {"a": "deep"}}, "depths.a"),
        ({"berths": True}, "berths"),
    ],
)
def test_what_doesnt_fit_is_refused_with_its_place(change, place):
    data = {"buoys": [], "kind": "lock", "depths": {}, **change}
    with pytest.raises(UnusableDocument, match=place):
        from_json(Harbour, data)


@pytest.mark.parametrize("data", [None, [], "text", 3])
def test_what_is_no_object_is_refused(data):
    with pytest.raises(UnusableDocument):
        from_json(Buoy, data)


def array(value: float, size: int = 1000) -> np.ndarray:
    return np.full(size, value)


def test_the_same_key_is_computed_once():
    cache = RenderCache()
    first = cache.get("a", lambda: array(1))
    assert cache.get("a", lambda: array(2)) is first
    assert cache.computed == 1


def test_what_the_cache_holds_cant_be_written_to():
    value = RenderCache().get("a", lambda: array(1))
    with pytest.raises(ValueError, match="read-only"):
        value[0] = 2


def test_what_took_least_time_per_byte_goes_first():
    memory = Memory(3 * 8000)
    for key, seconds in (("cheap", 0.001), ("dear", 1.0), ("fair", 0.1)):
        memory.put(key, array(0), seconds)
    memory.put("new", array(0), 0.01)
    assert [key in memory for key in ("cheap", "dear", "fair", "new")] == [False, True, True, True]


def test_what_isnt_asked_for_ages_until_even_the_dear_goes():
    memory = Memory(2 * 8000)
    memory.put("dear", array(0), 1.0)
    for k in range(30):
        memory.put(f"cheap {k}", array(0), 0.1)
    assert "dear" not in memory
    memory.put("asked for", array(0), 1.0)
    for k in range(30):
        assert memory.get("asked for") is not None
        memory.put(f"more {k}", array(0), 0.1)
    assert "asked for" in memory
    assert memory.bytes <= 2 * 8000


def test_plain_results_are_remembered_by_what_they_are_made_of():
    cache = RenderCache()
    first = cache.remembered(("a", 1.0), lambda: [1])
    assert cache.remembered(("a", 1.0), lambda: [2]) is first
    for k in range(REMEMBERED):
        cache.remembered(k, lambda: [k])  # noqa: B023 - called at once
    assert cache.remembered(("a", 1.0), lambda: [3]) == [3]


def test_only_what_is_meant_for_the_disk_lies_there(tmp_path):
    cache = RenderCache(tmp_path)
    cache.get("kept", lambda: array(1), on_disk=True)
    cache.get("passing", lambda: array(2))
    assert [p.stem for p in tmp_path.rglob("*.npy")] == ["kept"]
    again = RenderCache(tmp_path)
    np.testing.assert_array_equal(again.get("kept", lambda: array(9), on_disk=True), array(1))
    assert again.computed == 0


def test_what_nobody_shares_is_written_when_the_memory_lets_go_of_it(tmp_path):
    cache = RenderCache(tmp_path, memory_bytes=4 * 8000, shared=False)
    cache.get("first", lambda: array(1), on_disk=True)
    assert not list(tmp_path.rglob("*.npy"))
    for k in range(40):
        cache.get(f"more {k}", lambda: array(2), on_disk=True)
    # Three are in memory.
    assert len(list(tmp_path.rglob("*.npy"))) == 38
    for key, value in [("first", 1), *((f"more {k}", 2) for k in range(40))]:
        np.testing.assert_array_equal(cache.get(key, lambda: array(9), on_disk=True), array(value))
    assert cache.computed == 41


def test_files_of_a_temporary_cache_go_with_it(tmp_path, monkeypatch):
    monkeypatch.setattr(tempfile, "tempdir", str(tmp_path))
    cache = RenderCache.temporary()
    cache.get("kept", lambda: array(1), on_disk=True)
    assert list(tmp_path.iterdir())
    del cache
    gc.collect()
    assert not list(tmp_path.iterdir())


def test_what_passes_pushes_out_nothing_that_is_kept():
    cache = RenderCache(memory_bytes=10 * 8000)
    cache.get("kept", lambda: array(1))
    for k in range(20):
        cache.get(f"p{k}", lambda: array(0), passing=True)
    assert cache.bytes <= 10 * 8000
    computed = cache.computed
    cache.get("kept", lambda: array(1))
    cache.get("p19", lambda: array(0), passing=True)
    assert cache.computed == computed
    # Which of the others is left is a matter of how long each took.
    assert sum(cache.holds(f"p{k}") for k in range(20)) == 2


def test_a_half_written_file_is_computed_again(tmp_path):
    RenderCache(tmp_path).get("kept", lambda: array(1), on_disk=True)
    path = next(tmp_path.rglob("*.npy"))
    path.write_bytes(path.read_bytes()[:40])
    np.testing.assert_array_equal(RenderCache(tmp_path).get("kept", lambda: array(3), on_disk=True), array(3))


def test_what_another_process_took_away_is_computed_again(tmp_path):
    # Too small for two in memory.
    cache = RenderCache(tmp_path, memory_bytes=0)
    for key in ("kept", "gone", "last"):
        cache.get(key, lambda: array(1), on_disk=True)
    next(tmp_path.rglob("gone.npy")).unlink()
    assert cache.holds("kept", on_disk=True) and not cache.holds("never", on_disk=True)
    np.testing.assert_array_equal(cache.get("gone", lambda: array(3), on_disk=True), array(3))
    np.testing.assert_array_equal(cache.get("kept", lambda: array(3), on_disk=True), array(1))


def test_the_disk_keeps_its_limit(tmp_path):
    cache = RenderCache(tmp_path, disk_bytes=100_000)
    for k in range(60):
        cache.get(f"{k:04d}", lambda: array(0), on_disk=True)
    assert sum(p.stat().st_size for p in tmp_path.rglob("*.npy")) <= 130_000


def test_a_disk_that_refuses_doesnt_stop_the_music(tmp_path):
    folder = tmp_path / "renders"
    cache = RenderCache(folder)
    folder.rmdir()
    folder.write_text("a file where the folder was")
    np.testing.assert_array_equal(cache.get("a", lambda: array(1), on_disk=True), array(1))


def test_several_threads_see_one_value():
    cache = RenderCache()
    seen = []
    threads = [threading.Thread(target=lambda: seen.append(cache.get("a", lambda: array(1)))) for _ in range(8)]
    for t in threads:
        t.start()
    for t in threads:
        t.join()
    assert all((s == 1).all() for s in seen)
    assert len(seen) == 8


@dataclass(frozen=True)
class NumberOrText:
    value: float | str | None


@pytest.mark.parametrize("value", [1.5, "breakdown 2", None, ""])
def test_a_field_may_hold_a_number_or_text(value):
    assert from_json(NumberOrText, to_json(NumberOrText(value))) == NumberOrText(value)


def test_where_a_number_or_text_is_wanted_nothing_else_will_do():
    with pytest.raises(UnusableDocument):
        from_json(NumberOrText, {"value": [1]})
