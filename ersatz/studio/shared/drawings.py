"""What is drawn of a survey, whether a reference's or a target's typical track."""

from __future__ import annotations

from dataclasses import dataclass

from ersatz.core.survey.document import Drums, Energy, Event, Key, Presence, Pump, Section, Spectrum, Stereo, Survey


@dataclass(frozen=True, kw_only=True)
class TrackDrawing:
    """`main`: index of the section that matters most."""

    key: Key
    sections: tuple[Section, ...]
    presence: Presence
    energy: Energy
    drums: Drums
    pump: Pump
    spectrum: Spectrum
    stereo: Stereo
    events: tuple[Event, ...]
    pump_beat_db: tuple[float, ...]
    main: int
    bars: int


def track_drawing(survey: Survey) -> TrackDrawing:
    """What every drawing of a track has: sections, presence, energy, drums, pump, spectrum, stereo, events."""
    return TrackDrawing(
        key=survey.key,
        sections=survey.sections,
        presence=survey.presence,
        energy=survey.energy,
        drums=survey.drums,
        pump=survey.pump,
        spectrum=survey.spectrum,
        stereo=survey.stereo,
        events=survey.events,
        pump_beat_db=survey.pump.beat_db,
        main=survey.main_section(),
        bars=survey.bars,
    )
