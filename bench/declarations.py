"""ersatz/studio/static/studio/states.d.ts, made from the dataclasses of the pages' states.

python -m bench.declarations --write
"""

from __future__ import annotations

import os
import sys
from pathlib import Path

import django

ROOT = Path(__file__).parent.parent
FILE = ROOT / "ersatz" / "studio" / "static" / "studio" / "states.d.ts"
HEAD = """// States of the pages as the server writes them into JSON. Made from the dataclasses by
// `python -m bench.declarations --write`; a test holds this file equal to them.

"""


def text() -> str:
    # Models are read on import.
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "ersatz.site.settings")
    django.setup()
    from ersatz.studio.balance import state as balance
    from ersatz.studio.gap import state as gap
    from ersatz.studio.models.jobs import JobState
    from ersatz.studio.parts import notes
    from ersatz.studio.parts import state as parts
    from ersatz.studio.plan import drafts
    from ersatz.studio.plan import state as plan
    from ersatz.studio.shared.edit import Steps
    from ersatz.studio.shared.frame import Tracks
    from ersatz.studio.shared.pages import declarations
    from ersatz.studio.shared.vocabulary import Vocabulary
    from ersatz.studio.shelf.views import Portrait
    from ersatz.studio.survey import state as survey
    from ersatz.studio.target.state import TargetDrawing

    roots = [
        Portrait, survey.SurveyDrawing, survey.SurveyCorrected, survey.TwoSurveys, TargetDrawing, plan.PlanState, plan.PlanFixed,
        drafts.DraftRows,
        parts.PartState, parts.BrowserState, notes.NotesState, notes.NotesFixed, balance.BalanceState, balance.BalanceFixed,
        gap.GapDrawing, gap.GapState, gap.GapFixed, gap.GapProgress, Steps, Tracks, Vocabulary, JobState,
    ]  # fmt: skip
    return HEAD + declarations(roots)


def main() -> None:
    if "--write" in sys.argv:
        FILE.write_text(text())
    else:
        print(text())


if __name__ == "__main__":
    main()
