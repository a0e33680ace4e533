"""Sound and film: read from the subtitles inside, or from a transcript."""

from __future__ import annotations

from collections.abc import Sequence
from typing import IO

from fontanel.core.reading.model import NeedsTranscript, ReadingBuilder, ReadingFailed
from fontanel.core.reading.spoken.container import facts_of, opened, subtitles_of
from fontanel.core.reading.spoken.cues import Cue, add_cues


def read_recording(
    stream: IO[bytes], media_type: str, transcript: Sequence[Cue] | None = None
) -> ReadingBuilder:
    """Read a recording; subtitles inside it are preferred to a transcript.

    Raises:
        NeedsTranscript: it has sound, no subtitles, and no transcript was given.
        ReadingFailed: damaged or no_text.
    """
    with opened(stream, media_type) as container:
        facts = facts_of(container)
        cues: Sequence[Cue] = subtitles_of(container) if facts.subtitles else ()
    if not cues and transcript is None:
        if not facts.has_sound:
            raise ReadingFailed(
                "no_text", "The film has neither sound nor subtitles. Add its text as a document."
            )
        raise NeedsTranscript(media_type, facts.seconds)
    builder = ReadingBuilder(title=facts.title, duration=facts.seconds)
    for line in facts.description.split("\n"):
        builder.paragraph(line)
    cues = cues or transcript or ()
    if not cues:
        raise ReadingFailed("no_text", "No speech was heard in the recording.")
    add_cues(builder, cues, facts.chapters)
    return builder
