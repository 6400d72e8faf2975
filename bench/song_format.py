"""docs/song-format.md and docs/song-format.schema.json, made from the song's dataclasses and from the list of edits.

python -m bench.song_format --write
"""

from __future__ import annotations

import inspect
import json
import re
import sys
from dataclasses import fields
from pathlib import Path
from typing import get_type_hints

from ersatz.core.draft.asks import ASKS
from ersatz.core.edits import EDITS
from ersatz.core.schema import dataclasses_of, default_of, is_needed, json_schema, said
from ersatz.core.song.document import SCHEMA, Song

ROOT = Path(__file__).parent.parent
TEXT, DOCUMENT = ROOT / "docs" / "song-format.md", ROOT / "docs" / "song-format.schema.json"
SCRIPTS = ROOT / "ersatz" / "studio" / "static" / "studio"
#: Page -> the module that its template loads.
PAGES = {"Plan": "plan.js", "Parts, notes": "notes.js", "Parts, sound": "part.js", "Balance": "balance.js", "Gap": "gap.js"}
#: Defaults longer than this are said to be usual ones.
LONGEST_DEFAULT = 24

HEAD = f"""# The song, {SCHEMA}

Made from the dataclasses by `python -m bench.song_format --write`; a test holds this page and `song-format.schema.json` (JSON
Schema) equal to them. Formats 1 to 3 are read too and brought to this one (`ersatz/core/song/migrate.py`).

Everything that passes audio is a strip: a part's output, a bus, a return, the master. Positions are ticks, 960 per quarter note;
levels are dB. Fields that a reader doesn't know are left alone. Strips, ducking curves and the effects of a chain are named by id,
and have to be there; buses and returns never lead back to themselves.
"""


def text() -> str:
    out = [HEAD]
    for cls in dataclasses_of(Song):
        hints = get_type_hints(cls, include_extras=True)
        out.append(f"## {cls.__name__}\n\n{_paragraph(cls)}\n")
        out.append("| field | holds | left out |\n|---|---|---|")
        out += [f"| `{f.name}` | {said(hints[f.name])} | {'must be there' if is_needed(f) else _default(f)} |" for f in fields(cls)]
        out.append("")
    out.append(_edits())
    return "\n".join(out)


def _paragraph(cls: type) -> str:
    return inspect.cleandoc(cls.__doc__ or "").replace("\n", " ")


def _default(field) -> str:
    value = json.dumps(default_of(field), ensure_ascii=False)
    return f"`{value}`" if len(value) <= LONGEST_DEFAULT else "the usual ones"


def _edits() -> str:
    """Which edit a page makes; the rest are there for the pages to come, the command and scripts."""
    made = {page: _kinds_in(module) for page, module in PAGES.items()}
    rows = []
    for kind, edit in EDITS.items():
        pages = [page for page, kinds in made.items() if kind in kinds]
        names = ", ".join(f"`{f.name}`" for f in fields(edit))
        rows.append(f"| `{kind}` | {names} | {'; '.join(pages) or 'no page yet'} |")
    return "\n".join([
        "## Edits\n",
        "Each is `{\"kind\": ..., fields}`, alone or among `several`; a page makes it where one is named. Asks, which a page sends",
        f"and which become edits with the reference at hand, are {', '.join(f'`{kind}`' for kind in ASKS)}.\n",
        "| edit | fields | made on |\n|---|---|---|", *rows, "",
    ])  # fmt: skip


def _kinds_in(module: str) -> set[str]:
    """Quoted names in a module and in all that it imports."""
    seen: set[str] = set()
    ahead, found = [module], set()
    while ahead:
        name = ahead.pop()
        if name in seen:
            continue
        seen.add(name)
        source = (SCRIPTS / name).read_text()
        ahead += re.findall(r'from "\./([\w.]+)"', source)
        found |= set(re.findall(r'"([a-z_]+)"', source))
    return found


def document() -> str:
    return json.dumps(json_schema(Song, SCHEMA), indent=1, ensure_ascii=False) + "\n"


def main() -> None:
    if "--write" in sys.argv:
        TEXT.write_text(text())
        DOCUMENT.write_text(document())
    else:
        print(text())


if __name__ == "__main__":
    main()
