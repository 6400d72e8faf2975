// What modules expect of a page: the vocabulary that the server sends along.

const pitchNames = { minor: { Bb: ["C", "D♭", "D", "E♭", "E", "F", "G♭", "G", "A♭", "A", "B♭", "B"], E: ["C", "C♯", "D", "D♯", "E", "F", "F♯", "G", "G♯", "A", "A♯", "B"] }, major: {} };
const vocabulary = {
  ticksPerBar: 3840, labels: ["intro", "drop"], roles: { kick: "Kick", bass: "Bass", lead: "Lead" }, automationShapes: ["rise"], firstSlice: 36,
  tonics: ["C", "C#", "D", "Eb", "E", "F", "F#", "G", "Ab", "A", "Bb", "B"], scales: { minor: [0, 2, 3, 5, 7, 8, 10], major: [0, 2, 4, 5, 7, 9, 11] },
  pitchNames, transitions: {},
  limits: { tempoBpm: [40, 240], swingPercent: [50, 75], sectionBars: [1, 128], patternBars: [1, 64], faderDb: [-60, 24], closedDb: -60, balanceHz: [40, 12500], regionDb: 3, mostLimitedDb: 4 },
};
const element = (id) => ({ id, textContent: JSON.stringify(id === "vocabulary" ? vocabulary : {}), addEventListener: () => {}, dataset: {} });
globalThis.document = {
  getElementById: element, addEventListener: () => {}, querySelector: () => null, querySelectorAll: () => [],
  body: { toggleAttribute: (name, on) => { document.body[name] = on; } },
};
globalThis.window = { addEventListener: () => {}, innerWidth: 1280 };

export const studio = (name) => import(`../../ersatz/studio/static/studio/${name}.js`);
