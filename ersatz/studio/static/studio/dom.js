// HTML elements as the pages use them: Bootstrap's forms, buttons and menus in our own theme.

export function node(tag, className = "", text = "") {
  const made = document.createElement(tag);
  if (className) made.className = className;
  if (text !== "") made.textContent = text;
  return made;
}

/** What a label says already, for eyes only. */
export function mark(className, text, tag = "span") {
  const made = node(tag, className, text);
  made.setAttribute("aria-hidden", "true");
  return made;
}

export const selectBox = () => node("select", "form-select");
export const inputBox = () => node("input", "form-control");

export function button(label, act, kind = "btn btn-tool") {
  const made = node("button", kind, label);
  made.type = "button";
  made.addEventListener("click", act);
  return made;
}

/** A menu that opens under a button: rows of [label, act], or a string as a heading. `act` null: not possible now. */
export function menu(label, rows, { name = "", className = "btn btn-tool" } = {}) {
  const box = node("span", "dropdown"), list = node("ul", "dropdown-menu");
  const opener = node("button", `${className} dropdown-toggle`, label);
  opener.type = "button";
  opener.dataset.bsToggle = "dropdown";
  opener.setAttribute("aria-expanded", "false");
  if (name) opener.dataset.name = name;
  for (const row of rows) {
    const item = node("li");
    if (typeof row === "string") item.append(node("h6", "dropdown-header", row));
    else {
      const [title, act] = row, one = button(title, () => {
        // What it does may take the menu off the page, where nobody else closes it.
        bootstrap.Dropdown.getInstance(opener)?.hide();
        act?.();
      }, "dropdown-item");
      one.disabled = !act;
      item.append(one);
    }
    list.append(item);
  }
  box.append(opener, list);
  return box;
}
