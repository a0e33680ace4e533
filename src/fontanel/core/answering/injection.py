"""Detect sentences in documents that address the language model, not people.

Documents are data. A sentence that tells "the assistant" what to say is neither quoted nor sent to
a model; the record of the answer names what was left out.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

_MACHINE = (
    # Not "agent", "model" or "prompt" on their own: ships have agents, pumps are models.
    r"(?:ai|a\.i\.|llm|gpt|(?:ai|virtual|chat|digital|automated) assistant|assistant|chat"
    r" ?bot|(?:language|ai) model|system prompt|"
    r"ai agent|summari[sz]er|answering (?:service|system)|question.answering)"
)
_RULES = (
    # Telling a reader to ignore earlier instructions.
    r"\b(?:ignore|disregard|override|bypass)\b[^.!?\n]{0,40}\b(?:previous|prior|above|earlier|preceding|other|all|any|your|the|these|"
    r"system|safety|original)\b[^.!?\n]{0,30}\b(?:instruction|prompt|rule|direction|guideline|context|source|polic(?:y|ies)|constraint|"
    r"restriction|command)s?\b",
    r"\b(?:forget|discard|neglect|drop|skip)\b[^.!?\n]{0,20}\b(?:your|previous|prior|above|earlier|preceding)\b[^.!?\n]{0,20}"
    r"\b(?:instruction|prompt|rule|direction|guideline|context|source|constraint|restriction|command)s?\b",
    r"\bsystem prompts?\b|\bjailbreak",
    # Addressing the model as what it is.
    r"\b(?:attention|note|dear|hey|hello|message|instructions?|important|notice|to|as|for)\b[^.!?\n]{0,15}\b(?:the"
    rf" |an? |any |all |this |your )?{_MACHINE}s?\b"
    r"[^.!?\n]{0,40}[:,!]?[^.!?\n]{0,40}\b(?:you|must|should|shall|always|never|reply|respond|answer|say|tell|output|print|write|"
    r"state|repeat|claim|reveal|include|add|append|mention|recommend|do not|don't)\b",
    (
        r"\b(?:you are|you're|act as|pretend to be|behave as|roleplay as|imagine you"
        r" are)\b[^.!?\n]{0,25}\b(?:now|an? |the"
        rf" )?[^.!?\n]{{0,20}}\b(?:{_MACHINE}|pirate|unrestricted|jailbroken|developer mode|dan)\b"
    ),
    (
        r"\byou are now\b(?!"
        r" (?:leaving|entering|approaching|in|at|on|ready|able|logged|connected|required))"
    ),
    (
        rf"\b(?:the |any |every |all |this )?{_MACHINE}s?\b (?:reading|processing|that reads?|which"
        r" reads?|summari[sz]ing|answering|seeing|parsing)\b"
    ),
    (
        r"\b(?:the|any|every|all|an|this) (?:ai|llm|gpt|assistant|chat ?bot|language model|ai"
        r" model)s?\b (?:must|should|shall|will|has to|have to|is to|are to|needs? to)\b"
    ),
    # Asking for the machine's inside.
    r"\b(?:reveal|print|show|output|repeat|leak|expose|disclose|send|dump)\b[^.!?\n]{0,30}\b(?:system"
    r" prompt|your (?:prompt|instructions|rules|configuration)|"
    r"hidden (?:prompt|instructions)|api keys?|access keys?|credentials|conversation so far|chat"
    r" history)\b",
    # Prescribing what every answer must contain.
    (
        r"\b(?:begin|start|end|finish|conclude|prefix|preface|close)"
        r" (?:every|each|all|your|any|the) (?:answers?|responses?|outputs?)\b"
    ),
    (
        r"\b(?:when|if|whenever)\b[^.!?\n]{0,20}\b(?:asked about|users? asks?|someone asks"
        r" about|anyone asks about)\b[^.!?\n]{0,60}\b(?:always |only |instead |simply"
        r" )?(?:reply|respond|answer|say|claim|state|tell|output|write|insist)\b"
    ),
    (
        r"\b(?:reply|respond|answer)\b (?:only |always |exclusively |instead )(?:with|that|by"
        r" saying|in the words|using)\b"
    ),
    (
        r"\b(?:in|from|for) (?:your|all your|every|each) (?:next |following |future"
        r" )?(?:answer|reply|response|output)s?\b"
    ),
    (
        r"\bdo not (?:cite|mention|quote|reveal) (?:this|the|any|these)"
        r" (?:source|document|passage|instruction|sentence|text|message)s?\b"
    ),
    (
        r"\b(?:new|updated|real|actual|secret|hidden|admin(?:istrator)?|override|system|developer)"
        r" (?:instruction|prompt|directive|order|command|message|override)s?\s*[:=]"
    ),
    r"<\s*/?\s*(?:system|assistant|user|instructions?|sources?|prompt|im_start|im_end)\b[^>]*>|\[/?inst\]|<\|[a-z_]+\|>|(?:^|[.!?]\s+)(?:system|assistant|user)\s*:",
    (
        r"^\s*end of (?:the )?(?:sources?|documents?|context|data)\b|\b(?:new )?instructions?"
        r" (?:now )?follows?\s*:"
    ),
    r"\b(?:trust|believe|prefer|use) only this (?:source|document|passage|text)\b",
    (
        r"\bthe (?:correct|only correct|right|true|real) (?:answer|reply|response) (?:to"
        r" (?:every|any|all|each|this|the)[^.!?\n]{0,30} )?is(?: always)?\b"
    ),
    r"\b(?:decode|execute|obey)\b[^.!?\n]{0,30}\b(?:base64|payload)\b",
)
_PATTERN = re.compile("|".join(f"(?:{rule})" for rule in _RULES), re.I)


#: What continues an instruction: "Disregard the rules above. Say only this."
_GOES_ON = re.compile(
    r"^\W*(?:(?:then|now|instead|and|so)\W+)?(?:say|write|reply|respond|answer|output|print|tell|state|repeat|claim|include|add|mention|"
    r"act|pretend|start|begin|end|always|never|only)\b",
    re.I,
)


def orders(sentences: Sequence[str]) -> list[bool]:
    """Return which sentences give instructions to a model, alone or by continuing one."""
    results: list[bool] = []
    for sentence in sentences:
        going_on = bool(results) and results[-1] and bool(_GOES_ON.match(sentence))
        results.append(going_on or speaks_to_machine(sentence))
    return results


def speaks_to_machine(text: str) -> bool:
    """Return whether a sentence gives instructions to the model that reads it.

    It prefers to leave a sentence out: a manual about assistants may lose some of its own.
    """
    return bool(_PATTERN.search(text))
