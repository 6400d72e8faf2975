"""Reading: what is accepted is read, what isn't gets one sentence."""

import os
import struct

import numpy as np
import pytest
import soundfile

from ersatz.core.audio import Audio, read_audio, resample, write_audio
from ersatz.core.errors import UnusableAudio
from tests.signals import RATE, both, sine

TEN_SECONDS = both(sine(440, 11, -12))


@pytest.mark.parametrize(
    ("suffix", "subtype"),
    [("wav", "PCM_U8"), ("wav", "PCM_16"), ("wav", "PCM_24"), ("wav", "PCM_32"), ("wav", "FLOAT"), ("wav", "DOUBLE"),
     ("aiff", "PCM_16"), ("flac", "PCM_24"), ("ogg", "VORBIS"), ("ogg", "OPUS"), ("mp3", "MPEG_LAYER_III")],
)  # fmt: skip
def test_every_accepted_format_is_read(tmp_path, suffix, subtype):
    path = tmp_path / f"tone.{suffix}"
    rate = 48_000 if subtype == "OPUS" else RATE
    soundfile.write(str(path), both(sine(440, 11, -12, rate)).T, rate, subtype=subtype)
    audio = read_audio(path)
    assert audio.channels == 2
    assert audio.samples.dtype == np.float32
    assert audio.duration_s == pytest.approx(11, abs=0.06)
    assert np.abs(audio.samples).max() == pytest.approx(10 ** (-12 / 20), rel=0.05)


@pytest.mark.parametrize("rate", [8_000, 22_050, 96_000, 192_000])
@pytest.mark.parametrize("channels", [1, 2, 6])
def test_rates_and_channels(tmp_path, rate, channels):
    path = tmp_path / "tone.wav"
    soundfile.write(str(path), np.stack([sine(440, 10.5, -12, rate)] * channels, axis=1), rate)
    audio = read_audio(path)
    assert audio.rate_hz == rate
    assert audio.channels == min(channels, 2)
    assert np.abs(audio.samples).max() == pytest.approx(10 ** (-12 / 20), rel=0.02)


def wav_header(channels: int, rate: int, data_bytes: int) -> bytes:
    block = channels * 2
    form = "<4sI4s4sIHHIIHH4sI"
    return struct.pack(form, b"RIFF", (data_bytes + 36) & 0xFFFFFFFF, b"WAVE", b"fmt ", 16, 1, channels & 0xFFFF, rate,
                       (rate * block) & 0xFFFFFFFF, block & 0xFFFF, 16, b"data", data_bytes & 0xFFFFFFFF)  # fmt: skip


BAD = {
    "empty.wav": (b"", "empty"),
    "text.wav": (b"this is no audio at all, it is a letter" * 50, "can't be read"),
    "noise.mp3": (bytes(range(256)) * 40, "read"),
    "video.mp4": (b"\x00\x00\x00\x20ftypisom" + b"\x00" * 500, "video"),
    "video.mkv": (b"\x1aE\xdf\xa3" + b"\x00" * 500, "video"),
    "clip.avi": (b"RIFF\x00\x10\x00\x00AVI LIST" + b"\x00" * 500, "video"),
    "header-only.wav": (wav_header(2, RATE, 0), ""),
    "absurd.wav": (wav_header(2, RATE, 0xFFFFFFF0) + b"\x01\x00" * 100, ""),
    "channels.wav": (wav_header(2000, RATE, 400_000) + b"\x01\x00" * 200_000, ""),
    "rate.wav": (wav_header(2, 1_000_000, 400) + b"\x01\x00" * 200, ""),
}


@pytest.mark.parametrize("name", BAD)
def test_what_cant_be_used_gets_one_sentence_and_no_traceback(tmp_path, name):
    content, says = BAD[name]
    path = tmp_path / name
    path.write_bytes(content)
    with pytest.raises(UnusableAudio) as refused:
        read_audio(path)
    sentence = str(refused.value)
    assert says in sentence
    assert name in sentence
    assert len(sentence) < 260
    assert "\n" not in sentence


def test_silent_short_and_long_are_refused_by_name(tmp_path):
    cases = {
        "silent": np.zeros((RATE * 12, 2), np.float32),
        "needed to survey": TEN_SECONDS.T[: RATE * 5],
        "20 minutes": np.zeros((8_000 * 60 * 21, 1), np.float32),
    }
    for says, samples in cases.items():
        path = tmp_path / "case.wav"
        soundfile.write(str(path), samples, 8_000 if samples.shape[1] == 1 else RATE)
        with pytest.raises(UnusableAudio, match=says):
            read_audio(path)


def test_float_files_may_be_over_full_scale_but_not_absurdly(tmp_path):
    x = np.random.default_rng(0).standard_normal((RATE * 12, 2)) * 0.2
    for gain, fits in ((30.0, True), (1e30, False), (1e37, False)):
        soundfile.write(tmp_path / "x.wav", x * gain, RATE, subtype="FLOAT")
        if fits:
            assert read_audio(tmp_path / "x.wav").frames == len(x)
        else:
            with pytest.raises(UnusableAudio, match="over full scale"):
                read_audio(tmp_path / "x.wav")


def test_minutes_are_written_in_blocks(tmp_path):
    rate = 48_000
    x = np.tile(both(sine(440, 1.0, -12, rate)), (1, 200))
    write_audio(tmp_path / "x.ogg", Audio(x, rate))
    with soundfile.SoundFile(tmp_path / "x.ogg") as file:
        assert file.frames == x.shape[1]
        file.seek(150 * rate)
        assert np.sqrt(np.mean(file.read(rate) ** 2)) == pytest.approx(np.sqrt(np.mean(x**2)), rel=0.02)


def test_a_place_that_cant_be_written_to_is_said(tmp_path):
    audio = Audio(TEN_SECONDS, RATE)
    os.mkfifo(tmp_path / "pipe.wav")
    for place, said in (
        ("no/where.wav", "no folder"),
        ("x", "should end in"),
        ("x.doc", "should end in"),
        ("pipe.wav", "is not a file"),
    ):
        with pytest.raises(UnusableAudio, match=said):
            write_audio(tmp_path / place, audio)
    with pytest.raises(UnusableAudio, match="is not a file"):
        read_audio(tmp_path / "pipe.wav")


def test_a_truncated_file_is_read_as_far_as_it_goes(tmp_path):
    whole = tmp_path / "whole.wav"
    soundfile.write(str(whole), both(sine(440, 20, -12)).T, RATE, subtype="PCM_16")
    cut = tmp_path / "cut.wav"
    cut.write_bytes(whole.read_bytes()[: RATE * 4 * 12])
    assert read_audio(cut).duration_s == pytest.approx(12, abs=0.1)


def test_resampling_keeps_a_tone():
    out = resample(both(sine(1000, 1, -6, 48_000)), 48_000, 44_100)
    assert out.shape == (2, 44_100)
    middle = out[0, 4000:-4000]
    assert np.abs(middle).max() == pytest.approx(10 ** (-6 / 20), rel=0.01)
