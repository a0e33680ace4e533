"""Language detection by counting common words."""

from __future__ import annotations

import re
from collections import Counter

#: Language code -> words that are frequent in it and rare elsewhere.
_COMMON = {
    "en": (
        "the of and to in is that for it with as was on are be this by at from or which not have an"
        " a i we you my your they their what how who when where why if do does did can may must"
        " should has there will"
    ),
    "de": (
        "der die und das den nicht ist von zu mit sich auf für dem ein eine im auch wird sind oder"
        " bei werden"
    ),
    "fr": (
        "le la les des et est une du dans que pour qui pas sur au avec sont ce il par plus ne"
        " cette ou"
    ),
    "es": "el la los las de que y en un una es por con para no se del al lo como más pero su sus",
    "it": (
        "il di che è la per un non sono una con del della le si da nel gli alla dei anche come più"
    ),
    "nl": (
        "de het een van en dat is te op zijn voor met niet aan er om ook als bij door naar wordt"
        " deze"
    ),
    "pt": "o a de que e do da em um para é com não uma os no se na por mais as dos como mas",
    "sv": "och i att det som en på är av för med den till inte har de ett om var jag men ska",
    "da": "og i at det som en på er af for med den til ikke har de et om var jeg men skal",
    "nb": "og i å det som en på er av for med den til ikke har de et om var jeg men skal",
    "fi": "ja on ei että se oli hän mutta ovat kun joka niin kuin tai myös jos sen mitä ole",
}
#: Word -> the languages in which it is common.
_CODES: dict[str, list[str]] = {}
for _code, _words in _COMMON.items():
    for _word in set(_words.split()):
        _CODES.setdefault(_word, []).append(_code)
#: Language code -> characters that no other language here uses. Japanese precedes Chinese, as it
#: uses both.
_SCRIPTS = {
    "ja": re.compile("[\u3040-\u30ff]"),
    "ko": re.compile("[\uac00-\ud7a3]"),
    "zh": re.compile("[\u4e00-\u9fff]"),
    "ru": re.compile("[\u0400-\u04ff]"),
    "el": re.compile("[\u0370-\u03ff]"),
    "ar": re.compile("[\u0600-\u06ff]"),
    "he": re.compile("[\u0590-\u05ff]"),
}
_ANY_SCRIPT = re.compile(
    "[" + "".join(script.pattern.strip("[]") for script in _SCRIPTS.values()) + "]"
)
#: The number of characters examined.
_SAMPLE = 8000


def detect_language(text: str, least: int = 3) -> str:
    """Return the ISO 639-1 code of a text's language.

    "en" when fewer than `least` common words suggest another.
    """
    sample = text[:_SAMPLE]
    if _ANY_SCRIPT.search(sample):
        letters = sum(map(str.isalpha, sample))
        for code, script in _SCRIPTS.items():
            # A few words in another script do not change the language of a text.
            if len(script.findall(sample)) > 0.15 * letters:
                return code
    words = sample.lower().split()
    counts = dict.fromkeys(_COMMON, 0)
    for word, count in Counter(words).items():
        for code in _CODES.get(word, ()):
            counts[code] += count
    best = max(counts, key=lambda code: counts[code])
    return best if counts[best] >= max(least, len(words) // 25) else "en"
