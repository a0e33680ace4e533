"""Phrases that the service adds to answers, by the asker's language."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date

from fontanel.core.validity import Outdated, OutdatedReason


@dataclass(frozen=True, slots=True)
class Phrases:
    """Templates with fields in braces; `nearest` follows `unmentioned`."""

    declined: str
    part_declined: str
    unmentioned: str
    nearest: str
    nothing_indexed: str
    greeting: str
    thanks: str
    about: str
    model_failed: str
    all_removed: str
    own_knowledge: str
    unsure: str
    differs: str
    differs_from: str
    replaced: str
    withdrawn: str
    expired: str
    not_yet: str
    yes: str
    no: str


_ENGLISH = Phrases(
    declined="The documents do not answer this question.",
    part_declined="The documents do not answer: {question}",
    unmentioned="None of the closest passages mentions {name}.",
    nearest="The nearest is {name}.",
    nothing_indexed=(
        "There is nothing to answer from yet: no document of this knowledge base is indexed."
    ),
    greeting=(
        "Hello. Ask a question about the documents, and the answer will cite a source for each"
        " statement."
    ),
    thanks="You are welcome. Ask the next question whenever you like.",
    about=(
        "Questions are answered from the documents of this knowledge base. Every statement cites"
        " the place it comes from; when the documents do not answer, it says so."
    ),
    model_failed=(
        "The model {model} could not answer ({reason}). This answer was composed from the documents"
        " without it."
    ),
    all_removed=(
        "No statement of the model {model} was supported by its sources. This answer was composed"
        " from the documents without it."
    ),
    own_knowledge=(
        "The documents do not answer this. What follows is the model's own knowledge and was not"
        " checked."
    ),
    unsure="The documents may not answer this question. This is the nearest that they say.",
    differs="“{title}”{date} says otherwise:",
    differs_from="This is from “{first}”{first_date}; “{title}”{date} says otherwise:",
    replaced="“{title}” has been replaced by “{replacement}”.",
    withdrawn="“{title}” is no longer in force.",
    expired="“{title}” was in force until {date}.",
    not_yet="“{title}” comes into force on {date}.",
    yes="Yes.",
    no="No.",
)
_PHRASES = {
    "en": _ENGLISH,
    "de": Phrases(
        declined="Die Dokumente beantworten diese Frage nicht.",
        part_declined="Die Dokumente beantworten nicht: {question}",
        unmentioned="Keine der nächstliegenden Stellen erwähnt {name}.",
        nearest="Am nächsten kommt {name}.",
        nothing_indexed=(
            "Noch gibt es nichts, woraus geantwortet werden kann: kein Dokument ist erfasst."
        ),
        greeting=(
            "Guten Tag. Stellen Sie eine Frage zu den Dokumenten; die Antwort zeigt, wo jede"
            " Aussage steht."
        ),
        thanks="Gern geschehen. Stellen Sie jederzeit die nächste Frage.",
        about=(
            "Fragen werden aus den Dokumenten beantwortet. Jede Aussage nennt ihre Fundstelle; was"
            " die Dokumente nicht beantworten, wird gesagt."
        ),
        model_failed=(
            "Das Modell {model} konnte nicht antworten ({reason}). Diese Antwort entstand ohne es"
            " aus den Dokumenten."
        ),
        all_removed=(
            "Keine Aussage des Modells {model} war durch ihre Quellen belegt. Diese Antwort stammt"
            " ohne das Modell aus den Dokumenten."
        ),
        own_knowledge=(
            "Die Dokumente beantworten dies nicht. Das Folgende weiß das Modell von sich aus; es"
            " wurde nicht geprüft."
        ),
        unsure=(
            "Vielleicht beantworten die Dokumente diese Frage nicht. Dies kommt ihr am nächsten."
        ),
        differs="„{title}“{date} sagt etwas anderes:",
        differs_from="Das steht in „{first}“{first_date}; „{title}“{date} sagt etwas anderes:",
        replaced="„{title}“ wurde durch „{replacement}“ ersetzt.",
        withdrawn="„{title}“ ist nicht mehr in Kraft.",
        expired="„{title}“ galt bis zum {date}.",
        not_yet="„{title}“ gilt erst ab dem {date}.",
        yes="Ja.",
        no="Nein.",
    ),
    "fr": Phrases(
        declined="Les documents ne répondent pas à cette question.",
        part_declined="Les documents ne répondent pas à\u00a0: {question}",
        unmentioned="Aucun des passages les plus proches ne mentionne {name}.",
        nearest="Le plus proche est {name}.",
        nothing_indexed="Il n'y a encore rien d'où répondre : aucun document n'est indexé.",
        greeting=(
            "Bonjour. Posez une question sur les documents ; la réponse montre où se trouve chaque"
            " affirmation."
        ),
        thanks="Je vous en prie. Posez la question suivante quand vous voulez.",
        about=(
            "Les réponses viennent des documents. Chaque affirmation cite son passage ; ce que les"
            " documents ne disent pas est signalé."
        ),
        model_failed=(
            "Le modèle {model} n'a pas pu répondre ({reason}). Cette réponse vient des documents,"
            " sans lui."
        ),
        all_removed=(
            "Aucune affirmation du modèle {model} n'était étayée par ses sources. Cette réponse"
            " vient des documents, sans lui."
        ),
        own_knowledge=(
            "Les documents n'y répondent pas. Ce qui suit vient du modèle et n'a pas été vérifié."
        ),
        unsure=(
            "Il se peut que les documents ne répondent pas à cette question. Voici ce qui s’en"
            " approche le plus."
        ),
        differs="« {title} »{date} dit autre chose :",
        differs_from="Ceci vient de « {first} »{first_date} ; « {title} »{date} dit autre chose :",
        replaced="« {title} » a été remplacé par « {replacement} ».",
        withdrawn="« {title} » n'est plus en vigueur.",
        expired="« {title} » était en vigueur jusqu'au {date}.",
        not_yet="« {title} » entre en vigueur le {date}.",
        yes="Oui.",
        no="Non.",
    ),
    "es": Phrases(
        declined="Los documentos no responden a esta pregunta.",
        part_declined="Los documentos no responden a: {question}",
        unmentioned="Ninguno de los pasajes más cercanos menciona {name}.",
        nearest="Lo más parecido es {name}.",
        nothing_indexed="Todavía no hay nada con que responder: ningún documento está indexado.",
        greeting=(
            "Hola. Haga una pregunta sobre los documentos; la respuesta muestra dónde está cada"
            " afirmación."
        ),
        thanks="De nada. Haga la siguiente pregunta cuando quiera.",
        about=(
            "Las respuestas salen de los documentos. Cada afirmación cita su lugar; si los"
            " documentos no responden, se dice."
        ),
        model_failed=(
            "El modelo {model} no pudo responder ({reason}). Esta respuesta salió de los"
            " documentos, sin él."
        ),
        all_removed=(
            "Ninguna afirmación del modelo {model} estaba respaldada por sus fuentes. Esta"
            " respuesta viene de los documentos, sin él."
        ),
        own_knowledge=(
            "Los documentos no responden a esto. Lo que sigue lo sabe el modelo y no se ha"
            " comprobado."
        ),
        unsure=(
            "Es posible que los documentos no respondan a esta pregunta. Esto es lo que más se"
            " acerca."
        ),
        differs="«{title}»{date} dice otra cosa:",
        differs_from="Esto es de «{first}»{first_date}; «{title}»{date} dice otra cosa:",
        replaced="«{title}» ha sido sustituido por «{replacement}».",
        withdrawn="«{title}» ya no está en vigor.",
        expired="«{title}» estuvo en vigor hasta el {date}.",
        not_yet="«{title}» entra en vigor el {date}.",
        yes="Sí.",
        no="No.",
    ),
}

#: Names of languages in instructions to a model.
LANGUAGES = {
    "en": "English",
    "de": "German",
    "fr": "French",
    "es": "Spanish",
    "it": "Italian",
    "nl": "Dutch",
    "pt": "Portuguese",
    "sv": "Swedish",
    "da": "Danish",
    "nb": "Norwegian",
    "fi": "Finnish",
    "ja": "Japanese",
    "zh": "Chinese",
    "ko": "Korean",
    "ru": "Russian",
    "el": "Greek",
    "ar": "Arabic",
    "he": "Hebrew",
}


def phrases_in(language: str) -> Phrases:
    """The service's own phrases in a language; in English where there are none."""
    return _PHRASES.get(language, _ENGLISH)


def outdated_note(phrases: Phrases, title: str, outdated: Outdated) -> str:
    """Return a sentence on why a cited document is not in force. Dates are in ISO 8601."""
    if outdated.reason == OutdatedReason.REPLACED and outdated.replaced_by:
        return phrases.replaced.format(title=title, replacement=outdated.replaced_by)
    if outdated.reason == OutdatedReason.EXPIRED and outdated.on:
        return phrases.expired.format(title=title, date=outdated.on.isoformat())
    if outdated.reason == OutdatedReason.NOT_YET and outdated.on:
        return phrases.not_yet.format(title=title, date=outdated.on.isoformat())
    return phrases.withdrawn.format(title=title)


def differs_note(
    phrases: Phrases, first: tuple[str, date | None], other: tuple[str, date | None]
) -> str:
    """Return the words before a statement of another document that disagrees.

    Args:
        first: The title and the date of the document that was quoted first; a date is None if it
            is not known.
        other: Those of the document that disagrees.
    """
    days = [f" ({day.isoformat()})" if day else "" for _, day in (first, other)]
    template = phrases.differs_from if any(days) else phrases.differs
    return template.format(first=first[0], first_date=days[0], title=other[0], date=days[1])


def unmentioned_note(phrases: Phrases, name: str, nearest: str) -> str:
    """Return a sentence on a name that no passage mentions, and on the most similar one."""
    text = phrases.unmentioned.format(name=name)
    return f"{text} {phrases.nearest.format(name=nearest)}" if nearest else text
