// The section under the playhead: its name and length, its place, and what the reference has there.

import { button } from "./fields.js";

const LABELS = ["intro", "build", "drop", "breakdown", "bridge", "outro"];

/** The reference's section of the same label and number, or undefined. */
function counterpart(song, reference, here) {
  const { label } = song.sections[here];
  const number = song.sections.slice(0, here).filter((s) => s.label === label).length;
  return reference?.sections.filter((s) => s.label === label)[number];
}

const samePlan = (song, reference) => song.sections.length === reference.sections.length
  && song.sections.every((s, i) => s.label === reference.sections[i].label && s.bars === reference.sections[i].bars);

/** Fills `box`; `here` is the section's index, `bar` the playhead's 0-based bar, `send` takes an edit. */
export function sectionTools(box, song, reference, here, bar, send) {
  const section = song.sections[here];
  box.replaceChildren();
  if (!section) return;
  const own = (kind, more = {}) => send({ kind, section: section.id, ...more });
  const name = document.createElement("b");
  name.textContent = section.name;

  const label = document.createElement("select");
  label.setAttribute("aria-label", `What ${section.name} is`);
  label.dataset.tool = "label";
  for (const option of LABELS) label.add(new Option(option, option, false, option === section.label));
  label.addEventListener("change", () => own("relabel_section", { label: label.value }));

  const length = document.createElement("input");
  Object.assign(length, { type: "number", min: 1, max: 128, step: 1, value: section.bars });
  length.setAttribute("aria-label", `Bars of ${section.name}`);
  length.dataset.tool = "bars";
  length.addEventListener("change", () => {
    const bars = Number(length.value);
    if (Number.isInteger(bars) && bars !== section.bars) own("resize_section", { bars });
    else length.value = section.bars;
  });
  const unit = document.createElement("span");
  unit.textContent = "bars";

  const inside = Math.floor(bar) - (section.start - 1);
  const tool = (title, act, possible = true) => {
    const node = button(title, act);
    node.disabled = !possible;
    return node;
  };
  box.append(
    name, label, length, unit,
    tool("Earlier", () => own("move_section", { place: here - 1 }), here > 0),
    tool("Later", () => own("move_section", { place: here + 1 }), here + 1 < song.sections.length),
    tool("Double", () => own("double_section")),
    tool(inside > 0 ? `Split at bar ${section.start + inside}` : "Split", () => own("split_section", { bars: inside }), inside > 0 && inside < section.bars),
    tool("Join with the next", () => own("join_section"), here + 1 < song.sections.length),
    tool("Take out", () => own("take_out_section"), song.sections.length > 1),
  );

  if (!reference) return;
  const there = counterpart(song, reference, here);
  const says = document.createElement("span");
  says.className = "soft refsays";
  says.textContent = there ? `reference: bars ${there.start} to ${there.start + there.bars - 1}` : "not in the reference";
  box.append(says);
  if (there && there.bars !== section.bars) box.append(tool(`As long: ${there.bars} bars`, () => own("resize_section", { bars: there.bars })));
  if (!samePlan(song, reference)) {
    const plan = reference.sections.map(({ label: kind, bars }) => ({ label: kind, bars }));
    box.append(tool("Adopt its whole plan", () => send({ kind: "adopt_plan", plan })));
  }
}
