"""What stays isn't searched for garbage again; what is made later is."""

import gc
import weakref

from ersatz.core.garbage import spare_what_stays


class Knot:
    """Refers to itself: only a search finds that nobody else does."""

    def __init__(self):
        self.me = self


def test_what_is_there_is_left_out_and_what_comes_later_is_found():
    gc.unfreeze()
    before = Knot()
    spare_what_stays()
    try:
        assert gc.get_freeze_count() > 0
        assert not any(o is before for o in gc.get_objects())
        later = weakref.ref(Knot())
        gc.collect()
        assert later() is None
    finally:
        gc.unfreeze()
