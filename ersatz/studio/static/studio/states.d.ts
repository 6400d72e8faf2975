// States of the pages as the server writes them into JSON. Made from the dataclasses by
// `python -m bench.declarations --write`; a test holds this file equal to them.

export interface BalanceFixed {
  values: Record<string, Figure>;
  masterValues: Record<string, Figure>;
  sendHighDb: number;
  mostDuckedDb: number;
  headroomDb: number;
  dynamics: string[];
  chains: ChainChoice[];
  kinds: [string, string][];
  reference: MixReference | null;
}

export interface BalanceState {
  title: string;
  revision: number;
  sha: string;
  listen: string;
  undo: string | null;
  redo: string | null;
  history: [number, string][];
  milestones: Version[];
  remake: number;
  bars: number;
  bpm: number;
  measuredPump: MeasuredPump | null;
  sections: MixSection[];
  strips: StripState[];
  curves: DuckCurve[];
  master: MasterState;
}

export interface BandChange {
  low_hz: number;
  high_hz: number;
  change_db: number;
}

export interface BandDepth {
  depth_db: number;
}

export interface BlockState {
  kind: string;
  number: number;
  title: string;
  choices: Options[];
  params: Figure[];
}

export interface BrowserState {
  sounds: SoundChoice[];
  samples: SampleChoice[];
  chains: ChainChoice[];
  role: string;
  kinds: [string, string][];
}

export interface CellState {
  on: boolean;
  pattern: string;
  entry: number;
  exit: number;
  level: number;
  fill: string;
  fillBars: number;
  sound: string;
  part: string;
  other: OtherState | null;
}

export interface ChainChoice {
  id: number;
  name: string;
  effects: Effect[];
  lost: string;
}

export interface Change {
  bar: number;
  enters: string[];
  leaves: string[];
  bands: BandChange[];
  confidence: number;
}

export interface Chord {
  start_bar: number;
  bars: number;
  name: string;
  degree: string;
  confidence: number | null;
}

export interface Corridor {
  low: number[];
  high: number[];
}

export interface DraftRow {
  id: number;
  seed: number;
  said: string;
  chords: string;
  hook: [number, number, number][];
  bass: [number, number, number][];
  ask: Record<string, any>;
  bars: [number, number];
  url: string;
}

export interface DraftRows {
  drafts: DraftRow[];
  most: number;
}

export interface DrumPattern {
  section: number;
  steps_per_bar: number;
  kick: number[];
  clap: number[];
  hats: number[];
  timing_ms: StepTiming;
  confidence: number | null;
}

export interface Drums {
  kick: KickPortrait | null;
  patterns: DrumPattern[];
}

export interface Duck {
  curve: string;
  depth_db: number;
}

export interface DuckCurve {
  id: string;
  name: string;
  rate: "1/4" | "1/8" | "hits";
  shape: number[];
  triggers: string[];
}

export interface Effect {
  kind: string;
  params: Record<string, number>;
  choices: Record<string, string>;
  on: boolean;
  blend: number;
  above_hz: number;
  below_hz: number;
  channel: "both" | "mid" | "side";
  shape: number[];
  sidechain: string;
  bypass_db: number;
  id: string;
}

export interface EffectPicture {
  kind: string;
  values: number[];
}

export interface EffectState {
  kind: string;
  params: Record<string, number>;
  choices: Record<string, string>;
  on: boolean;
  blend: number;
  above_hz: number;
  below_hz: number;
  channel: "both" | "mid" | "side";
  shape: number[];
  sidechain: string;
  bypass_db: number;
  id: string;
  title: string;
  hasSidechain: boolean;
  picture: EffectPicture | null;
  fields: Figure[];
  options: Options[];
}

export interface Energy {
  low_db: number[];
  mid_db: number[];
  high_db: number[];
  full_db: number[];
}

export interface EnvelopePicture {
  seconds: number;
  values: number[];
  stages: Stages;
}

export interface EqBand {
  hz: number;
  gain_db: number;
  q: number;
}

export interface Event {
  kind: "riser" | "fall" | "snare roll" | "gap" | "impact" | "sweep";
  start_bar: number;
  beats: number;
  confidence: number;
  edge_hz: [number, number] | null;
}

export interface Facet {
  name: string;
  share: number | null;
  said: string;
  passages: Passage[];
}

export interface Figure {
  name: string;
  unit: string;
  low: number;
  high: number;
  value: number;
  title: string;
  scale: string;
  step: number;
  moves: string | null;
}

export interface GapCorridors {
  spectrum: Corridor;
  pump: Corridor;
  loudness: Corridor;
}

export interface GapDrawing {
  hz: number[];
  differenceDb: number[];
  section: number;
  beatMs: number;
  reference: GapSide;
  remake: GapSide;
  corridors: GapCorridors | null;
}

export interface GapFixed {
  own: GapSection | null;
}

export interface GapProgress {
  songs: MeasuredSong[];
  figures: number;
  mostOff: number;
  rows: ProgressRow[];
}

export interface GapSection {
  place: number;
  first: number;
  last: number;
}

export interface GapSide {
  bars: number;
  sections: [string, number, number][];
  levelDb: number[];
  pumpDb: number[];
  pumpDepthDb: number;
  lufs: number;
  shortTerm: [number, number][];
}

export interface GapState {
  title: string;
  revision: number;
  sha: string;
  listen: string;
  undo: string | null;
  redo: string | null;
  history: [number, string][];
  milestones: Version[];
  bars: number;
  names: Record<string, string>;
}

export interface Groove {
  name: string;
  timing_ms: number[];
  swing_percent: number;
  amount: number;
  humanise_ms: number;
  humanise_velocity: number;
  seed: number;
  random_velocity: number;
  random_pan: number;
  random_semitones: number;
}

export interface Harmony {
  chords: Chord[];
}

export interface JobState {
  id: number;
  url: string;
  kind: string;
  state: string;
  phase: string;
  fraction: number;
  message: string;
  changes: StripChange[];
  moves: Move[];
  own: Own | null;
  varied: Varied[];
}

export interface Key {
  tonic: string;
  mode: string;
  confidence: number;
  alternatives: KeyGuess[];
  tuning_cents: number;
  chroma: number[];
}

export interface KeyGuess {
  tonic: string;
  mode: string;
  confidence: number;
}

export interface KeyShare {
  tonic: string;
  mode: string;
  share: number;
}

export interface KickPortrait {
  fundamental_hz: number;
  note: string;
  decay_ms: number;
  click_db: number;
  start_hz: number;
  fall_ms: number;
  drive_db: number;
  envelope_db: number[];
  pitch: [number, number][];
  confidence: number | null;
}

export interface Limits {
  tempoBpm: [number, number];
  swingPercent: [number, number];
  sectionBars: [number, number];
  patternBars: [number, number];
  faderDb: [number, number];
  closedDb: number;
  balanceHz: [number, number];
  regionDb: number;
  mostLimitedDb: number;
}

export interface MasterState {
  lowCutHz: number;
  ceilingDbtp: number;
  targetLufs: number | null;
  eq: EqBand[];
}

export interface MeasuredBeside {
  sections: [string, number][];
}

export interface MeasuredCurves {
  loudness: [number, number][];
  brightness: [number, number][];
}

export interface MeasuredPump {
  depthDb: number;
  isCurrent: boolean;
}

export interface MeasuredSong {
  name: string;
  isKept: boolean;
  isCurrent: boolean;
  matched: number;
}

export interface Member {
  title: string;
  sha256: string;
  bpm: number;
  key: string;
  integrated_lufs: number;
}

export interface MixReference {
  pump: PumpDrawn;
}

export interface MixSection {
  id: string;
  name: string;
  start: number;
  bars: number;
  first: number;
  last: number;
  reference: number | null;
}

export interface Modulation {
  source: string;
  target: string;
  amount: number;
}

export interface Move {
  id: string;
  kind: string;
  sentence: string;
  strip: string;
  section: string;
  reasons: MoveReason[];
  effects: MoveEffect[];
  edits: Record<string, any>[];
  closes: number;
  elsewhere: number;
  size: number;
  sure: number;
}

export interface MoveEffect {
  figure: string;
  section: string;
  unit: string;
  before: number;
  predicted: number | null;
  measured: number;
}

export interface MoveReason {
  figure: string;
  section: string;
  unit: string;
  reference: number;
  remake: number;
  difference: number;
  tolerance: number;
}

export interface Note {
  tick: number;
  ticks: number;
  midi: number;
  velocity: number;
  bend: [number, number][];
  nudge_ms: number;
  semitones: number;
  repeats: number;
  pan: number;
  level: [number, number][];
}

export interface NoteRow {
  id: string;
  name: string;
  role: string;
  choke: string;
  groove: Groove;
  middle: number;
  sound: string;
  playsPitch: boolean;
  slices: number;
  patterns: Record<string, Pattern>;
  cells: Record<string, [string, boolean, string]>;
}

export interface NoteSection {
  id: string;
  name: string;
  start: number;
  bars: number;
  reference: number | null;
}

export interface NotesFixed {
  reference: ReferenceNotes[];
  grooves: Groove[];
  units: Record<string, string>;
}

export interface NotesState {
  title: string;
  revision: number;
  sha: string;
  listen: string;
  undo: string | null;
  redo: string | null;
  history: [number, string][];
  milestones: Version[];
  bars: number;
  bpm: number;
  key: [string, string];
  scale: number[];
  swing: number;
  part: string;
  pitched: boolean;
  note: string;
  parts: [string, string, string, boolean, boolean][];
  rows: NoteRow[];
  sections: NoteSection[];
}

export interface OpenPart {
  id: string;
  name: string;
  role: string;
  middle: number;
}

export interface Options {
  name: string;
  options: string[];
  value: string;
  title: string;
}

export interface OtherState {
  pattern: string;
  level: number;
  sound: string;
  part: string;
}

export interface Own {
  facets: Facet[];
  cuts: [string, number][];
}

export interface OwnSection {
  id: string;
  name: string;
  label: string;
  start: number;
  bars: number;
}

export interface PartState {
  title: string;
  revision: number;
  sha: string;
  listen: string;
  undo: string | null;
  redo: string | null;
  history: [number, string][];
  milestones: Version[];
  bars: number;
  remake: number;
  part: OpenPart;
  note: string;
  parts: [string, string, string][];
  key: [string, string];
  pattern: PlayedPattern | null;
  sound: SoundState;
  effects: EffectState[];
  ducker: Effect | null;
}

export interface Passage {
  bar: number;
  bars: number;
  reference_bars: number[];
  share: number;
  semitones: number;
  part: string;
}

export interface Pattern {
  bars: number;
  notes: Note[];
  loop_ticks: number;
}

export interface PatternSketch {
  bars: number;
  loop: number;
  notes: [number, number, number][];
}

export interface PlanDifference {
  section: string;
  counterpart: number | null;
  later_bars: number;
  longer_bars: number;
}

export interface PlanFixed {
  reference: ReferencePlan | null;
  sounds: Record<string, ShippedSound[]>;
}

export interface PlanPart {
  id: string;
  name: string;
  role: string;
  out: string;
  gainDb: number;
  duckDb: number;
  cells: Record<string, CellState>;
  patterns: Record<string, PatternSketch>;
  follows: string;
}

export interface PlanState {
  title: string;
  revision: number;
  sha: string;
  listen: string;
  undo: string | null;
  redo: string | null;
  history: [number, string][];
  milestones: Version[];
  bars: number;
  style: string;
  sections: OwnSection[];
  bpm: number;
  swing: number;
  key: [string, string];
  transitions: Transition[];
  automation: Record<string, Record<string, [number, number, number][]>>;
  strips: [string, string, string][];
  differences: PlanDifference[];
  parts: PlanPart[];
}

export interface PlayedPattern {
  name: string;
  bars: number;
  sections: [number, number][];
}

export interface Portrait {
  levels: number[];
  sections: [string, number, number][];
}

export interface Presence {
  bars: number[];
  kick: number[];
  clap: number[];
  hats: number[];
  perc: number[];
  bass: number[];
  chords: number[];
  lead: number[];
  noise: number[];
}

export interface ProgressRow {
  name: string;
  unit: string;
  off: (number | null)[];
  first: string;
  last: string;
}

export interface Pump {
  depth_db: number;
  rate: string;
  release_ms: number;
  curve_db: number[];
  confidence: number;
  bands: Record<string, BandDepth>;
  active_sections: number[];
  per_section: SectionPump[];
  told: boolean;
}

export interface PumpDrawn {
  curveDb: number[];
  depthDb: number;
}

export interface ReferenceNotes {
  label: string;
  hits: Record<string, [number, number, number][]>;
  bass: [number, number, number, number][];
  chords: [number, number, string][];
}

export interface ReferencePlan {
  bars: number;
  sections: TheirSection[];
  usual: [number, number][];
  presence: Record<string, number[]>;
  changes: Change[];
  level: number[];
  curves: MeasuredCurves;
}

export interface ReferenceTrack {
  title: string;
  url: string;
  bars: number;
  bpm: number;
  sections: [string, number, number][];
  lufs: number | null;
  shortTerm: [number, number][];
  beats: number;
  firstS: number;
  tonicHz: number;
}

export interface Resonance {
  hz: number;
  over_db: number;
}

export interface SampleChoice {
  id: number;
  name: string;
  sha: string;
  seconds: number;
  listen: string;
  forget: string;
}

export interface Section {
  label: "intro" | "build" | "drop" | "breakdown" | "bridge" | "outro";
  start_bar: number;
  bars: number;
  start_s: number;
  end_s: number;
  confidence: number;
  like: number | null;
  loudness_lufs: number;
  presence: Record<string, number>;
}

export interface SectionBands {
  bands: StereoBand[];
}

export interface SectionPump {
  section: number;
  depth_db: number;
}

export interface SectionSpectrum {
  level_db: number[];
}

export interface Send {
  db: number;
  before_fader: boolean;
}

export interface ShippedSound {
  name: string;
  kind: string;
  character: string;
  brightness: string;
  listen: string;
}

export interface Sound {
  voice: string;
  params: Record<string, number>;
  choices: Record<string, string>;
  modulations: Modulation[];
  shapes: Record<string, number[]>;
  name: string;
  level_db: number;
  samples: Record<string, string>;
  kind: string;
}

export interface SoundChoice {
  id: number | null;
  name: string;
  role: string;
  kind: string;
  character: string;
  brightness: string;
  sound: Sound;
  listen: string;
  forget: string;
}

export interface SoundPictures {
  cycles?: Record<string, number[]>;
  responses?: Record<string, number[] | null>;
  envelopes?: Record<string, EnvelopePicture>;
  lfos?: Record<string, number[]>;
  wave?: number[][];
  hit?: number[][];
  seconds?: number;
  slices?: number[];
}

export interface SoundState {
  voice: string;
  title: string;
  name: string;
  pitched: boolean;
  blocks: Record<string, BlockState>;
  sources: string[];
  targets: [string, string, string][];
  modulations: Modulation[];
  shapes: Record<string, number[]>;
  pictures: SoundPictures;
  samples: Record<string, string>;
  gone: string[];
}

export interface Span {
  low: number;
  high: number;
}

export interface Spectrum {
  centers_hz: number[];
  level_db: number[];
  tilt_db_per_octave: number;
  per_section: SectionSpectrum[];
  full_energy_db: number[];
  resonances: Resonance[];
}

export interface Stages {
  attack: number;
  decay: number;
  held: number;
  end: number;
  sustain: number;
}

export interface StepTiming {
  kick: (number | null)[];
  clap: (number | null)[];
  hats: (number | null)[];
}

export interface Steps {
  title: string;
  revision: number;
  sha: string;
  listen: string;
  undo: string | null;
  redo: string | null;
  history: [number, string][];
  milestones: Version[];
}

export interface Stereo {
  bands: StereoBand[];
  mono_below_hz: number;
  per_section: SectionBands[];
}

export interface StereoBand {
  low_hz: number;
  high_hz: number;
  width: number;
  correlation: number;
  crest_db: number;
  onsets_per_beat: number | null;
  between_db: number | null;
}

export interface StripChange {
  strip: string;
  name: string;
  what: string;
  why: string;
}

export interface StripState {
  id: string;
  name: string;
  kind: "part" | "bus" | "return" | "master";
  role: string;
  out: string;
  figures: Record<string, number>;
  mute: boolean;
  duck: Duck | null;
  sends: Record<string, Send>;
  cuts: [number, number] | null;
  eq: EqBand[];
  effects: EffectState[];
  href: string;
}

export interface SurveyCorrected {
  measured: MeasuredBeside | null;
  corrected: boolean;
}

export interface SurveyDrawing {
  key: Key;
  sections: Section[];
  presence: Presence;
  energy: Energy;
  drums: Drums;
  pump: Pump;
  spectrum: Spectrum;
  stereo: Stereo;
  events: Event[];
  pumpBeatDb: number[];
  main: number;
  bars: number;
  tempo: Tempo;
  roleConfidence: Record<string, number>[];
  harmony: Harmony;
  changes: Change[];
  bass: [number, number, number, string, string, number, number][];
}

export interface Take {
  said: string;
  edit: Record<string, any>;
  share: number;
}

export interface TargetDrawing {
  key: Key;
  sections: Section[];
  presence: Presence;
  energy: Energy;
  drums: Drums;
  pump: Pump;
  spectrum: Spectrum;
  stereo: Stereo;
  events: Event[];
  pumpBeatDb: number[];
  main: number;
  bars: number;
  tempo: TargetTempo;
  lufs: [number, number][];
  members: Member[];
  spread: TargetSpread;
}

export interface TargetSpread {
  bpm: Span;
  keys: KeyShare[];
  sectionBars: Span[];
  spectrum: Corridor[];
  pumpCurve: Corridor;
  width: Span[];
  loudnessCourse: Corridor;
}

export interface TargetTempo {
  bpm: number;
  beats: number;
}

export interface Tempo {
  bpm: number;
  confidence: number;
  alternatives: TempoGuess[];
  beats_per_bar: number;
  first_downbeat_s: number;
  swing_percent: number;
  drift_percent: number;
  evidence: TempoEvidence;
  changes: TempoChange[];
  swing_confidence: number | null;
}

export interface TempoChange {
  t_s: number;
  bpm: number;
  beats: number;
}

export interface TempoEvidence {
  bpm: number[];
  strength: number[];
}

export interface TempoGuess {
  bpm: number;
  confidence: number;
}

export interface TheirSection {
  label: string;
  start: number;
  bars: number;
}

export interface Track {
  title: string;
  url: string;
  bars: number;
  bpm: number;
  sections: [string, number, number][];
  lufs: number | null;
  shortTerm: [number, number][];
}

export interface Tracks {
  id: number | null;
  reference: ReferenceTrack | null;
  remake: Track | null;
}

export interface Transition {
  id: string;
  kind: "riser" | "fall" | "snare roll" | "drum fill" | "low-cut sweep" | "high-cut sweep" | "wash" | "gap" | "reverse swell" | "impact" | "crash" | "slow-down" | "echo throw";
  section: string;
  beats: number;
  amount: number;
  on: string[];
  rhythm: string;
  seed: number;
}

export interface TransitionKind {
  title: string;
  behind: boolean;
  worksOn: string;
  rhythms: string[];
  hasAmount: boolean;
  hasSeed: boolean;
}

export interface TwoSurveys {
  a: SurveyDrawing;
  b: SurveyDrawing;
}

export interface Varied {
  facet: string;
  part: string;
  pattern: string;
  takes: Take[];
}

export interface Version {
  id: number;
  name: string;
  listen: string;
}

export interface Vocabulary {
  ticksPerBar: number;
  labels: string[];
  roles: Record<string, string>;
  automationShapes: string[];
  firstSlice: number;
  tonics: string[];
  scales: Record<string, [number, number, number, number, number, number, number]>;
  pitchNames: Record<string, Record<string, string[]>>;
  transitions: Record<string, TransitionKind>;
  limits: Limits;
}
