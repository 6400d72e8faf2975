// What Bootstrap's script (loaded before our modules) puts into the page, as far as we call it, and what of the Web MIDI standard the
// DOM library doesn't declare.

interface BootstrapComponent {
  show(): void;
  hide(): void;
}

declare const bootstrap: {
  Modal: { getOrCreateInstance(element: Element): BootstrapComponent };
  Dropdown: { getInstance(element: Element): BootstrapComponent | null };
  Offcanvas: new (element: Element, options?: { scroll?: boolean; backdrop?: boolean }) => BootstrapComponent;
};
