"""Sound and film are read from subtitles or a transcript, and cut without losing a word."""

from __future__ import annotations

import io
from collections.abc import Sequence
from fractions import Fraction
from itertools import pairwise

import av
import pytest
from hypothesis import given
from hypothesis import strategies as st

from fontanel.core.reading import NeedsTranscript, ReadingFailed, detect_media_type, read_spoken
from fontanel.core.reading.detect import FLAC, MP4, RECORDINGS
from fontanel.core.reading.spoken.container import facts_of, opened
from fontanel.core.reading.spoken.cues import Cue
from fontanel.core.reading.spoken.sound import cut_sound
from fontanel.core.reading.spoken.stitching import Part, stitch
from fontanel.simulators.ears import WORDS, decoded, heard
from tests.core.recordings import recording, silent_film

_SAID = ("the", "harbour", "is", "closed", "from", "noon", "until", "evening")
_KINDS = ("wav", "mp3", "ogg", "flac", "m4a", "mp4", "webm")


@pytest.mark.parametrize("kind", _KINDS)
def test_every_kind_is_recognised_and_needs_a_transcript(kind: str) -> None:
    data = recording(_SAID, kind, title="Closing")
    media_type = detect_media_type(data, f"closing.{kind}")
    assert media_type in RECORDINGS
    with pytest.raises(NeedsTranscript) as caught:
        read_spoken(io.BytesIO(data), f"closing.{kind}", media_type)
    assert caught.value.seconds == pytest.approx(len(_SAID), abs=0.3)


@pytest.mark.parametrize("kind", _KINDS)
def test_parts_of_every_kind_begin_and_end_where_they_should(kind: str) -> None:
    data = recording(_SAID, kind)
    media_type = detect_media_type(data, f"closing.{kind}")
    part, end, ended = cut_sound(io.BytesIO(data), media_type, 2.0, 3.0)
    assert [word for _, _, word in heard(decoded(part))] == ["is", "closed", "from"]
    assert end == pytest.approx(5.0)
    assert not ended
    rest, end, ended = cut_sound(io.BytesIO(data), media_type, 5.0, 60.0)
    assert [word for _, _, word in heard(decoded(rest))] == ["noon", "until", "evening"]
    assert end == pytest.approx(len(_SAID), abs=0.3)
    assert ended
    nothing, _, ended = cut_sound(io.BytesIO(data), media_type, 500.0, 60.0)
    assert (nothing, ended) == (b"", True)


def test_a_transcript_becomes_timed_sentences_below_the_title() -> None:
    data = recording(_SAID, "mp3", title="Closing", comment="Spoken by the duty officer.")
    transcript = [
        Cue(0.0, 2.0, "The harbour is", "Anna"),
        Cue(2.0, 4.0, "closed.", "Anna"),
        Cue(4.5, 6.0, "Until when?", "Bo"),
    ]
    reading = read_spoken(io.BytesIO(data), "closing.mp3", "audio/mpeg", transcript)
    assert reading.title == "Closing"
    assert reading.duration == pytest.approx(8.0, abs=0.3)
    assert reading.text.split("\n\n") == [
        "Spoken by the duty officer.",
        "Anna: The harbour is closed.",
        "Bo: Until when?",
    ]
    assert [block.seconds for block in reading.blocks] == [None, 0.0, 4.5]


def test_subtitles_inside_a_film_are_preferred_and_chapters_are_headings() -> None:
    data = _film_with_subtitles()
    with opened(io.BytesIO(data), MP4) as film:
        assert facts_of(film).subtitles
    reading = read_spoken(io.BytesIO(data), "tour.mp4", MP4, [Cue(0.0, 1.0, "something else")])
    assert reading.text == "Arrival\n\nShips report & wait.\n\nMooring\n\nThen they moor."
    assert [(block.kind, block.seconds) for block in reading.blocks] == [
        ("heading", 0.0),
        ("cue", 0.0),
        ("heading", 4.0),
        ("cue", 4.0),
    ]


def _film_with_subtitles() -> bytes:
    target = io.BytesIO()
    with av.open(target, "w", format="mp4") as out:
        stream = out.add_mux_stream("mov_text")
        stream.time_base = Fraction(1, 1000)
        out.set_chapters(
            [
                {
                    "id": number,
                    "start": start,
                    "end": start + 4000,
                    "time_base": Fraction(1, 1000),
                    "metadata": {"title": title},
                }
                for number, (start, title) in enumerate([(0, "Arrival"), (4000, "Mooring")])
            ]
        )
        for start, text in ((0, "<i>Ships report</i>\n&amp; wait."), (4000, "Then they moor.")):
            raw = text.encode()
            packet = av.Packet(len(raw).to_bytes(2, "big") + raw)
            packet.stream, packet.time_base = stream, Fraction(1, 1000)
            packet.pts = packet.dts = start
            packet.duration = 4000
            out.mux(packet)
    return target.getvalue()


def test_a_silent_film_and_silence_have_no_text() -> None:
    with pytest.raises(ReadingFailed, match="neither sound nor subtitles"):
        read_spoken(io.BytesIO(silent_film()), "a.mp4", MP4)
    with pytest.raises(ReadingFailed, match="has no sound"):
        cut_sound(io.BytesIO(silent_film()), MP4, 0.0, 5.0)
    with pytest.raises(ReadingFailed, match="No speech"):
        read_spoken(io.BytesIO(recording(_SAID)), "a.wav", "audio/wav", [])


@given(st.data())
def test_damaged_recordings_fail_with_a_reason(data: st.DataObject) -> None:
    whole = recording(("the", "harbour"), "flac", 0.4)
    broken = bytearray(whole[: data.draw(st.integers(4, len(whole)))])
    for _ in range(data.draw(st.integers(0, 5))):
        broken[data.draw(st.integers(4, len(broken)), label="at") - 1] ^= 0xFF
    codes = set()
    for step in (
        lambda stream: read_spoken(stream, "a.flac", FLAC, [Cue(0, 1, "said")]),
        lambda stream: cut_sound(stream, FLAC, 0.0, 5.0),
    ):
        try:
            step(io.BytesIO(bytes(broken)))
        except ReadingFailed as failure:
            codes.add(failure.code)
    assert codes <= {"damaged", "no_text"}


def test_a_playlist_is_not_opened_as_a_recording() -> None:
    playlist = b"#EXTM3U\n#EXTINF:1,\nfile:///etc/passwd\n"
    with pytest.raises(ReadingFailed):
        read_spoken(io.BytesIO(playlist), "a.mp4", MP4)


@given(
    st.lists(st.tuples(st.floats(0.4, 6.0), st.floats(0.0, 2.0)), min_size=1, max_size=60),
    st.floats(15.0, 60.0),
    st.integers(0, 2**16),
)
def test_parts_are_stitched_without_losing_or_repeating_a_cue(
    spans: Sequence[tuple[float, float]], length: float, seed: int
) -> None:
    cues, at = [], 0.0
    for number, (takes, pause) in enumerate(spans):
        cues.append(Cue(at, at + takes, f"{WORDS[number % len(WORDS)]} {number}"))
        at += takes + pause
    starts = [0.0]
    while starts[-1] + length < at:
        starts.append(starts[-1] + length - 13.0)
    parts = [
        Part(
            start,
            start + length,
            # What is cut off at an edge is heard in part, with other words.
            [
                Cue(max(cue.start, start), min(cue.end, start + length), _heard(cue, start, length))
                for cue in cues
                if cue.end > start and cue.start < start + length
            ],
        )
        for start in starts
    ]
    assert [cue.text for cue in stitch(parts)] == [cue.text for cue in cues]


def _heard(cue: Cue, start: float, length: float) -> str:
    return cue.text if cue.start >= start and cue.end <= start + length else "mumbling"


def test_words_that_two_parts_share_are_kept_once() -> None:
    first = Part(0, 20, [Cue(0, 6, "ships wait"), Cue(6, 14, "for the signal of the pilot")])
    second = Part(10, 30, [Cue(10, 18, "of the pilot and follow")])
    assert [cue.text for cue in stitch([first, second])] == [
        "ships wait",
        "for the signal of the pilot",
        "and follow",
    ]
    assert all(a.start <= b.start for a, b in pairwise(stitch([first, second])))
