"""What simulated models, embedders, listeners and viewers do, by the name that a request has."""

#: What a model of each name does.
MODELS = {
    "honest": "answers from the sources and cites them",
    "lying": "changes numbers, denies, cites wrongly and adds facts",
    "subtle": "denies a clause, gives another thing's figure, turns the order of events around",
    "gullible": "does what the sources tell it to",
    "slow": "streams one word every so often",
    "failing": "answers with status 500",
    "broken": "closes the connection in mid-stream",
    "malformed": "sends a stream that is not JSON",
    "limited": "answers with status 429 the first two times, then honestly",
    "busy": "answers with status 429 always, asking for a long pause",
    "silent": "accepts and says nothing",
    "empty": "ends without a word",
    "whole": "answers in one piece, without streaming",
}

#: What an embedder of each name does.
EMBEDDERS = {
    "words": "gives vectors of the words of a text",
    "slow": "takes its time",
    "failing": "answers with status 500",
    "limited": "answers with status 429 the first two times, then with vectors",
    "busy": "answers with status 429 always, asking for a long pause",
    "wrong": "gives vectors of other dimensions each time",
    "short": "leaves the last vector out",
    "malformed": "answers with something else than JSON",
    "zero": "gives vectors of length 0",
    "equal": "gives the same vector for all texts",
    "picky": "refuses texts with the word unembeddable",
    "uncut": "gives all dimensions, even if it is asked for fewer",
    "strict": "refuses to cut its vectors",
}

#: What a transcription server of each name does.
TRANSCRIBERS = {
    "tones": "hears tones, each of which stands for a word",
    "speakers": "names two speakers, too",
    "slow": "takes its time",
    "failing": "answers with status 500",
    "limited": "answers with status 429 the first two times, then with a transcript",
    "busy": "answers with status 429 always, asking for a long pause",
    "malformed": "answers with something else than JSON",
    "refusing": "refuses every file as too large",
    "text": "gives a text without times",
}

#: What a model that sees does, by its name.
VIEWERS = {
    "colours": "names the colours of a picture",
    "slow": "takes its time",
    "failing": "answers with status 500",
    "limited": "answers with status 429 the first two times, then with a description",
    "busy": "answers with status 429 always, asking for a long pause",
    "malformed": "answers with something else than a description",
    "blind": "refuses pictures",
}
