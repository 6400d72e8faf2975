// @ts-check
// What the core and the pages both name: kinds, labels, buses, measures. Said in ersatz/studio/shared/vocabulary.py alone.

import { readJson } from "./draw.js";

/** @type {import("./states").Vocabulary} */
const vocabulary = readJson("vocabulary");

export const { ticksPerBar: TICKS_PER_BAR, labels: LABELS, roles: ROLE_NAMES, automationShapes: SHAPES, firstSlice: FIRST_SLICE, tonics: TONICS, scales: SCALES, pitchNames: PITCH_NAMES, transitions: TRANSITIONS, limits: LIMITS } = vocabulary;
