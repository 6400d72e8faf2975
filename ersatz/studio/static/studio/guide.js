// @ts-check
// The guide: the reference along under the remake while one works, section by section, whole or one band of it. It is only ever
// heard here: nothing of it goes into a mixdown.

import { button, node } from "./dom.js";
import { choiceField, numberField } from "./fields.js";
import { tip } from "./tips.js";

/** @typedef {import("./sections.js").PlanSong} PlanSong */
/** What is kept of it for a remake.
 *  @typedef {{ db?: number, band?: string, off?: string[] }} Kept */

/** @type {[string, string][]} */
const BANDS = [["", "all of it"], ["low", "its lows"], ["mid", "its middle"], ["high", "its highs"]];
const place = (/** @type {PlanSong} */ song) => `ersatz.guide.${song.id}`;

/** @param {PlanSong} song
 *  @returns {Kept} */
function kept(song) {
  try {
    return JSON.parse(localStorage.getItem(place(song)) ?? "null") ?? {};
  } catch {
    return {};
  }
}

/** Fills `box` and tells the player which bars of the reference belong where.
 *  @param {Element} box
 *  @param {{ player: import("./player.js").Player, song: PlanSong, section: import("./states").OwnSection | undefined, redraw: () => void }} options */
export function guideTools(box, { player, song, section, redraw }) {
  const map = song.differences.flatMap((d) => {
    const own = song.sections.find((s) => s.id === d.section), theirs = d.counterpart === null ? undefined : song.reference?.sections[d.counterpart];
    return own && theirs ? [/** @type {[number, number, number, number, string]} */ ([own.start - 1, own.bars, theirs.start - 1, theirs.bars, own.id])] : [];
  });
  const { db = -12, band = "", off = [] } = kept(song);
  const starts = map.filter(([, , , , id]) => off.includes(id)).map(([start]) => start);
  Object.assign(player.guide, { map, db, band, off: starts });
  box.replaceChildren();
  const keep = (/** @type {Kept} */ change) => {
    const all = { db, band, off, ...change };
    try {
      localStorage.setItem(place(song), JSON.stringify(all));
    } catch {
      // Without storage it is forgotten with the page.
    }
    player.setGuide({ db: all.db, band: all.band, off: map.filter(([, , , , id]) => all.off.includes(id)).map(([start]) => start) });
    redraw();
  };
  const on = button("Guide", () => { player.setGuide({ on: !player.guide.on }); redraw(); });
  on.id = "guide-on";
  on.setAttribute("aria-pressed", String(player.guide.on));
  on.setAttribute("aria-keyshortcuts", "U");
  on.disabled = !player.canGuide;
  tip(on, player.canGuide ? "The reference along under the remake (key U); never part of a mixdown" : "The guide needs the reference’s tempo and a section that both have");
  box.append(on);
  if (!player.guide.on) return;
  box.append(
    numberField({ name: "guide-db", title: "at", unit: "dB", low: -40, high: 0, value: db, scale: "linear", step: 1 }, (v) => keep({ db: v })),
    choiceField({ name: "guide-band", title: "", options: BANDS, value: band }, (v) => keep({ band: v })),
  );
  if (section && map.some(([, , , , id]) => id === section.id)) {
    const here = button(`in ${section.name}`, () => keep({ off: off.includes(section.id) ? off.filter((id) => id !== section.id) : [...off, section.id] }));
    here.setAttribute("aria-pressed", String(!off.includes(section.id)));
    box.append(here);
  } else box.append(node("span", "soft", "nothing of it here"));
}
