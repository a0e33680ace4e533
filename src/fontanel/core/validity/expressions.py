"""How documents say, in several languages, whether they are in force."""

from __future__ import annotations

import re
from dataclasses import dataclass

from fontanel.core.validity.dates import DATE

_DOCUMENT = (
    r"documents?|notices?|plans?|polic(?:y|ies)|procedures?|rules?|regulations?|guides?|guidelines?"
    r"|guidance|handbooks?|manuals?|versions?|editions?|issues?|circulars?|orders?|instructions?"
    r"|standards?|terms|conditions|pages?|memos?|memorandum|letters?|schedules?|timetables?|tariffs?"
    r"|lists?|directives?|forms?|agreements?|contracts?|specifications?|decisions?|bulletins?"
    r"|statements?|articles?|drafts?|releases?|charters?|codes?|protocols?"
)
_BE = r"(?:is|are|was|were|has been|have been|will be|is hereby|are hereby)"
#: A line without any of these says nothing of the kind; looking for them is quick.
_HINTS = """
    supersed replac withdrawn obsolete repeal revoked rescinded longer force effect valid expir
    ersetz abgelöst aufgehoben gültig gilt gelten kraft wirksam überholt zurückgezogen
    remplac abrog vigueur valable périmé caduc retiré annul
    sustitu reemplaz derog vigor vigente válid obsolet retirad anulad
""".split()  # noqa: SIM905
#: "This plan", "These general terms and conditions", "The present notice".
_THIS = rf"(?:th(?:is|ese)|the present)\s+(?:[\w’'-]+\s+){{0,4}}?(?:{_DOCUMENT})"
_GONE = (
    r"(?:superseded|withdrawn|obsolete|repealed|revoked|rescinded"
    r"|no longer (?:in force|in effect|valid|current|applicable))"
)


@dataclass(frozen=True, slots=True)
class Expressions:
    """The expressions of a language, matched at the beginning of a sentence."""

    replaces: re.Pattern[str]
    replaced_by: re.Pattern[str]
    withdrawn: re.Pattern[str]
    begins: re.Pattern[str]
    ends: re.Pattern[str]
    label: re.Pattern[str]
    """A title's remark, such as "(superseded)"."""
    name_ends: re.Pattern[str]
    """Where the name of the other document ends."""


def _expressions(
    *,
    replaces: str,
    replaced_by: str,
    withdrawn: str,
    begins: str,
    ends: str,
    gone: str,
    after: str,
) -> Expressions:
    day = f"(?P<day>{DATE.pattern})"
    return Expressions(
        replaces=re.compile(rf"(?:{replaces})\s+(?P<name>.+)", re.I | re.S),
        replaced_by=re.compile(rf"(?:{replaced_by})\s+(?P<name>.+)", re.I | re.S),
        withdrawn=re.compile(rf"(?:{withdrawn})\b", re.I),
        begins=re.compile(rf"(?:{begins})\s*{day}", re.I),
        ends=re.compile(rf"(?:{ends})\s*{day}", re.I),
        label=re.compile(rf"[(\[]\s*{gone}\s*[)\]]|^\s*{gone}\s*[:–—-]|[–—-]\s*{gone}\s*$", re.I),
        name_ends=re.compile(
            rf";\s|(?<!\d)\.\s|[;.]$|\n|\s\(|,\s+(?!(?:19|20)\d\d\b)|\s+(?:{after})\b", re.I
        ),
    )


_ENGLISH = _expressions(
    replaces=(
        rf"(?:(?:{_THIS}|it|they)\s+(?:(?:will|shall|hereby)\s+)?(?:replaces?|supersedes?|repeals?)"
        r"|(?:replaces|supersedes|repeals)\s*:?)(?:\s+and\s+(?:replaces?|supersedes?))?"
    ),
    replaced_by=(
        rf"(?:(?:{_THIS}|it|they)\s+{_BE}\s+(?:now\s+)?superseded"
        rf"|{_THIS}\s+{_BE}\s+(?:now\s+)?replaced|superseded|replaced)\s*(?:(?:on|from)\s+[^.;]*?)?\s*by:?"
    ),
    withdrawn=(
        rf"(?:(?:{_THIS}|it|they)\s+{_BE}|status\s*:?)\s+(?:now\s+)?{_GONE}(?!\s+(?:by|if|when|unless))"
        rf"|{_GONE}\s*(?:[.:;]|$)"
    ),
    begins=(
        r"(?:in force|in effect|effective|valid)\s+(?:from|as of|as from|since|with effect from)"
        r"|(?:comes?|came|enters?|entered|coming)\s+into\s+(?:force|effect)\s+(?:on|from)"
        r"|takes?\s+effect\s+(?:on|from)|with effect from|effective(?:\s+date)?\s*:?"
        r"|valid\s+from\s*:?|in force\s*:"
    ),
    ends=(
        r"(?:in force|in effect|valid|effective)\s+(?:until|till|to|through)"
        r"|(?:in force|in effect|valid|effective)\s+from\s+[^.;]{6,30}?\s+(?:until|till|to|through)"
        r"|expir(?:es?|ed|y)(?:\s+date)?\s*(?:on|:)?|valid\s+(?:until|to)\s*:?"
    ),
    gone=_GONE,
    after=(
        r"(?:and|but)\s+(?:is|are|was|were|kept|remains?|has|have|must|shall|should|may|no longer|"
        r"sets?|applies|apply|comes?|takes?)|which|that|with effect|in its entirety|in full|"
        r"(?:as of|as from|from|on|since)\s+(?=\d|[A-Z])"
    ),
)
_GERMAN_THIS = r"dies(?:e|er|es)\s+(?:[\w-]+\s+){0,3}?[\w-]+"
_GERMAN_GONE = (
    r"(?:aufgehoben|außer Kraft(?: gesetzt)?|ungültig|nicht mehr gültig|überholt|zurückgezogen)"
)
_GERMAN = _expressions(
    replaces=rf"(?:(?:{_GERMAN_THIS}|sie|er|es)\s+ersetz(?:t|en)|ersetzt\s*:)(?!\s+durch)",
    replaced_by=(
        rf"(?:(?:{_GERMAN_THIS}|sie|er|es)\s+(?:wurden?|wird|ist|sind)\s+)?(?:abgelöst|ersetzt)\s+durch:?"
    ),
    withdrawn=(
        rf"(?:(?:{_GERMAN_THIS}|sie|er|es)\s+(?:ist|sind|wurden?)|status\s*:?)\s+{_GERMAN_GONE}"
        rf"|{_GERMAN_GONE}\s*(?:[.:;]|$)"
    ),
    begins=(
        r"(?:gültig|gilt|gelten|in Kraft|wirksam)\s+(?:ab|seit|vom)(?:\s+dem)?"
        r"|(?:tritt|treten|trat|traten)\s+(?:am|zum)|(?:gültig|in Kraft)\s+(?:ab|seit)\s*:"
    ),
    ends=r"(?:gültig|gilt|gelten|in Kraft)\s+(?:[^.;]{6,40}?\s+)?bis(?:\s+(?:zum|einschließlich))*",
    gone=_GERMAN_GONE,
    after=r"und\s+(?:ist|sind|wird|bleibt|gilt|regelt)|welche[rs]?|ab\s+dem|mit\s+Wirkung",
)
_FRENCH_THIS = (
    r"(?:ce|cet|cette|ces|le présent|la présente|les présente?s)\s+(?:[\w’'-]+\s+){0,3}?[\w’'-]+"
)
_FRENCH_GONE = r"(?:abrogée?s?|périmée?s?|caducs?|caduques?|retirée?s?|plus en vigueur)"
_FRENCH = _expressions(
    replaces=rf"(?:{_FRENCH_THIS}|elles?|ils?)\s+(?:remplacent?|abrogent?|annulent?)(?:\s+et\s+remplacent?)?",
    replaced_by=(
        rf"(?:(?:{_FRENCH_THIS}|elles?|ils?)\s+(?:est|sont|a été|ont été)\s+)?remplacée?s?\s+par"
    ),
    withdrawn=(
        rf"(?:{_FRENCH_THIS}|elles?|ils?)\s+(?:n'|n’)?(?:est|sont|a été|ont été)\s+{_FRENCH_GONE}"
        rf"|{_FRENCH_GONE}\s*(?:[.:;]|$)"
    ),
    begins=(
        r"en vigueur\s+(?:à partir du|à compter du|depuis le|dès le|le)"
        r"|valables?\s+(?:à partir du|dès le)"
    ),
    ends=r"(?:en vigueur|valables?)\s+(?:[^.;]{6,40}?\s+)?(?:jusqu[’']au|au)",
    gone=_FRENCH_GONE,
    after=r"et\s+(?:est|sont|fixe|reste|entre)|qui|à\s+(?:partir|compter)",
)
_SPANISH_THIS = r"(?:est[ea]s?|estos|el presente|la presente)\s+(?:[\w-]+\s+){0,3}?[\w-]+"
_SPANISH_GONE = r"(?:derogad[oa]s?|anulad[oa]s?|caducad[oa]s?|obsolet[oa]s?|retirad[oa]s?)"
_SPANISH = _expressions(
    replaces=rf"(?:{_SPANISH_THIS}|ellas?|ellos)?\s*(?:sustituyen?|reemplazan?|derogan?)(?:\s+al?)?",
    replaced_by=(
        rf"(?:(?:{_SPANISH_THIS})\s+(?:ha sido|han sido|fue|fueron|es|son)\s+)?"
        r"(?:sustituid[oa]s?|reemplazad[oa]s?)\s+por"
    ),
    withdrawn=(
        rf"(?:{_SPANISH_THIS})\s+(?:está|están|ha sido|han sido|fue|fueron)\s+{_SPANISH_GONE}"
        rf"|{_SPANISH_GONE}\s*(?:[.:;]|$)"
    ),
    begins=(
        r"(?:en vigor|vigentes?|válid[oa]s?)\s+(?:desde|a partir del?)(?:\s+el)?"
        r"|entran?\s+en\s+vigor\s+el"
    ),
    ends=r"(?:en vigor|vigentes?|válid[oa]s?)\s+(?:[^.;]{6,40}?\s+)?hasta(?:\s+el)?",
    gone=_SPANISH_GONE,
    after=r"y\s+(?:es|son|está|queda)|que|a\s+partir|desde",
)
_BY_LANGUAGE = {"en": _ENGLISH, "de": _GERMAN, "fr": _FRENCH, "es": _SPANISH}


def expressions_in(language: str) -> Expressions:
    """Return the expressions of a language; in English where there are none."""
    return _BY_LANGUAGE.get(language, _ENGLISH)


def may_concern_validity(text: str) -> bool:
    """Return whether a text has a word that statements about validity contain."""
    lowered = text.lower()
    return any(hint in lowered for hint in _HINTS)
