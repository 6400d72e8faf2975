// One value with its unit: type it, step it with the arrow keys, or drag its name sideways.

const span = (f) => (f.scale === "log" ? Math.log(f.high / f.low) : f.high - f.low);
const fit = (f, value) => {
  const held = Math.min(f.high, Math.max(f.low, value));
  return f.step ? Math.round(held / f.step) * f.step : held;
};
/** `share` of the whole range further, on the value's own scale. */
const moved = (f, value, share) => fit(f, f.scale === "log" ? Math.max(f.low, value) * Math.exp(share * span(f)) : value + share * span(f));
export const shown = (value) => String(Math.abs(value) >= 1000 ? Math.round(value) : Number(value.toPrecision(3))).replace("-", "−");

/** `set(value)` when a value stands, `preview(value)` while it is dragged. */
export function numberField(f, set, preview = () => {}) {
  const row = document.createElement("label");
  row.className = "field";
  const name = document.createElement("span");
  name.textContent = f.title;
  name.title = `Drag sideways; ${shown(f.low)} to ${shown(f.high)} ${f.unit}`;
  const input = document.createElement("input");
  Object.assign(input, { type: "text", inputMode: "decimal", value: shown(f.value) });
  input.dataset.name = f.name;
  const unit = document.createElement("i");
  unit.textContent = f.unit;
  let value = f.value;
  const put = (next, keep) => {
    value = fit(f, next);
    input.value = shown(value);
    if (keep) set(value);
    else preview(value);
  };
  input.addEventListener("change", () => {
    const typed = Number(input.value.replace("−", "-").replace(",", ".").replace(/[^\d.+-].*$/, ""));
    if (input.value.trim() === "" || Number.isNaN(typed)) input.value = shown(value);
    else put(typed, true);
  });
  input.addEventListener("keydown", (event) => {
    const way = { ArrowUp: 1, ArrowDown: -1 }[event.key];
    if (!way) return;
    event.preventDefault();
    const share = f.step ? (way * f.step) / (f.high - f.low) : way * (event.shiftKey ? 0.1 : 0.01);
    put(moved(f, value, share), true);
  });
  name.addEventListener("pointerdown", (event) => {
    event.preventDefault();
    name.setPointerCapture(event.pointerId);
    const start = [event.clientX, value];
    const drag = (e) => put(moved(f, start[1], (e.clientX - start[0]) / 260), false);
    name.addEventListener("pointermove", drag);
    name.addEventListener("pointerup", () => {
      name.removeEventListener("pointermove", drag);
      if (value !== start[1]) set(value);
      else input.focus();
    }, { once: true });
  });
  row.append(name, input, unit);
  return row;
}

export function choiceField(c, set) {
  const row = document.createElement("label");
  row.className = "field choice-field";
  const name = document.createElement("span");
  name.textContent = c.title;
  const select = document.createElement("select");
  select.dataset.name = c.name;
  for (const option of c.options) select.add(new Option(option, option, false, option === c.value));
  select.addEventListener("change", () => set(select.value));
  row.append(name, select);
  return row;
}

export function button(label, act, kind = "k") {
  const node = document.createElement("button");
  node.type = "button";
  node.className = kind;
  node.textContent = label;
  node.addEventListener("click", act);
  return node;
}
