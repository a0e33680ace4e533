"""Patterns of sentences that questions are made of."""

from __future__ import annotations

import re

_NUMBER = (
    r"(?:\d[\d.,:]*|one|two|three|four|five|six|seven|eight|nine|ten|eleven|twelve|half|a quarter)"
)
PERIOD = (
    r"(?:seconds?|minutes?|hours?|(?:working |calendar )?days?|nights?|weeks?|months?|years?"
    r"|terms?|shifts?)"
)
_CLOCK = (
    r"(?:\d{1,2}[:.]\d{2}|noon|midnight|(?:Mon|Tues|Wednes|Thurs|Fri|Satur|Sun)days?"
    r"|(?:\d{1,2} )?(?:January|February|March|April|May|June|July|August|September|October"
    r"|November|December)\b)"
)
_ABOUT = r"(?:about |up to |only |at least |at most |no more than |not more than )?"

# What follows the verb, up to the end: for how long, by when, at what time, how often, if only.
DURATION = re.compile(rf"\s+for\s+{_ABOUT}{_NUMBER} {PERIOD}(?: at a time| at most)?$")
DEADLINE = re.compile(
    r"\s+(?:(?:at least|no later than|not later than|within|after|before|by)\s+)+"
    rf"(?:the )?(?:{_NUMBER} {PERIOD}|{_CLOCK})(?:\s.*)?$"
)
AT = re.compile(rf"\s+(?:on|at|from|until|between)\s+(?:{_CLOCK})(?:\s.*)?$")
EVERY = re.compile(rf"\s+(?:every|once an?|twice an?|each)\s+(?:{_NUMBER} )?{PERIOD}(?:\s.*)?$")
ONLY = re.compile(r"\s*only\s+(?:when|if|after|with|by)\s+.+$")

# What follows the verb, from its beginning.
PLACE = re.compile(
    r"^(?P<verb>(?:\w+ly )?(?:kept|stored|held|landed|moored|located|situated|stowed|placed|put"
    r"|parked|left|posted|displayed|published|returned|handed in|collected|filed|listed"
    r"|delivered))\s+(?:in|at|on|under|near|behind|next to|to|from)\s+\S"
)
SIZE = re.compile(rf"^{_ABOUT}{_NUMBER}(?: [a-z]+)? (?P<how>long|wide|high|deep|tall|thick|old)\b")
MONEY = re.compile(
    rf"^{_ABOUT}(?:[€$£] ?)?{_NUMBER}"
    r"(?: (?:crowns?|euros?|pounds?|dollars?|cents?|pence|EUR|GBP|USD)\b|€)"
)
COUNTED = re.compile(rf"^{_ABOUT}{_NUMBER} (?P<what>[a-z][a-z-]+(?: [a-z][a-z-]+)?)\b")
ALLOWED = re.compile(
    r"^(?:not )?(?P<word>allowed|permitted|accepted|forbidden|prohibited|compulsory|mandatory"
    r"|required|free|included|insured|covered|refunded)\b"
    r"(?P<more>(?:\s+(?:in|on|for|at|to|during|outside)\s[^,;:(]+)?)"
)
#: The agent of a passive: a person or a body of persons.
_AGENT = (
    r"(?:(?!that |which |and |or )\w+ ){0,3}?"
    r"(?:\w{2,}(?:er|or|ist|ant|ian|man|men|ers|ors|ists|ians)"
    r"|firm|board|team|staff|office|department|police|council|committee|agency|company|club|trust"
    r"|government|crew|court|chair|head|clerk|bank|school|union|panel|desk|nurse|parents|trustees)\b"
)
BY = re.compile(
    r"^(?P<verb>(?:\w+ly )?\w+(?:ed|en|wn|id|ld|de|ht|pt|lt|un|ut))"
    rf"\s+(?P<what>(?:(?:at|on|in|for) [^,;]*? )?)by (?:the|an?|our|its|two|three) {_AGENT}"
)
DEFINED = re.compile(r"^(?:an?|the|any) [a-z]")
PERSON = re.compile(
    r"\b(?:officer|master|manager|director|head|chair\w*|secretary|keeper|captain|doctor|nurse"
    r"|teacher|clerk|warden|treasurer|librarian|president|coordinator)\b",
    re.I,
)
NO_OBJECT = re.compile(r"(?:to|been|not|in|on|at|for|up|out|off|place|part|effect|back)\b")
#: What must follow a verb for a question about its time.
TIMES = {
    "How long": re.compile(rf"{_ABOUT}{_NUMBER}(?: to {_NUMBER})? {PERIOD}"),
    "When": re.compile(
        r"(?:again )?(?:on|at|from|until|between|daily|every|after|before|in)\b"
        rf".*(?:{_CLOCK}|{PERIOD})"
    ),
}

# Whole sentences, lead-ins and headings.
CONDITION = re.compile(
    r"^(?P<word>If|When|Whenever) (?P<clause>[^,;:]{8,110}), (?:then )?(?P<main>\S.{8,})$"
)
#: A condition without a subject of its own: "if paid in cash".
BARE = re.compile(r"(?:[b-z]|\w+ed|paid|lost|possible|necessary|needed|not|in|on|at|by|for|no)\b")
PURPOSE = re.compile(r"^To (?P<verb>[a-z]+ (?!sure)[^,;:]{3,80}), \S.{8,}$")
BECAUSE = re.compile(r"^(?P<before>[^;:]{8,120}?),? because .{8,}$")
FOLLOWING = re.compile(
    r"^The following (?P<what>[a-z][\w -]{2,40}?) (?P<verb>are|must|may|can)"
    r" (?P<rest>[^:]{3,80}):?$"
)
AS_FOLLOWS = re.compile(
    r"^(?P<verb>[A-Z][a-z]+ (?:the|an?|your) [^,:;]{2,60}?)"
    r"(?: as follows| like this| in this order)?:$"
)
QUESTION = re.compile(
    r"^(?:What|When|Where|Who|Which|Why|How|Is|Are|Can|May|Do|Does|Must|Should)\b[^?]{6,150}\?$"
)
CLAUSE_END = re.compile(r"[;:(]|,(?!\d)|\s(?:and|but|or|so|except|unless|which|who|because|that)\s")
#: An end that something has to follow.
OPEN_END = re.compile(r"\b(?:of|at|in|on|for|to|by|with|from|the|an?|and|or|only)$")
#: The number of a clause or rule before its text.
NUMBERED = re.compile(
    r"^(?:§ ?)?(?:\d+(?:\.\d+)*[.)]?|\(?[a-z]\)|[A-Z]\.?\d+(?:\.\d+)*)\s+(?=[A-Z\"“])"
)
