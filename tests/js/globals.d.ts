// What Bootstrap's script, loaded before our modules, puts into the page, as far as we call it.

interface BootstrapComponent {
  show(): void;
  hide(): void;
  dispose(): void;
}

declare const bootstrap: {
  Modal: { getOrCreateInstance(element: Element): BootstrapComponent };
  Dropdown: { getInstance(element: Element): BootstrapComponent | null };
  Tooltip: new (element: Element, options: { title: string; trigger: string; animation: boolean; placement: string; fallbackPlacements: string[] }) => BootstrapComponent;
  Offcanvas: new (element: Element, options?: { scroll?: boolean; backdrop?: boolean }) => BootstrapComponent;
};
