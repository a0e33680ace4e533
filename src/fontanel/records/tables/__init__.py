"""The tables. What a team owns is only read through `TeamScope`."""

from __future__ import annotations

from fontanel.facts import SETTLED_STATES, DocumentState
from fontanel.records.tables.base import Base, UtcDateTime, Word, now, of_team
from fontanel.records.tables.conversations import Conversation, Feedback, Turn, TurnState, Use
from fontanel.records.tables.curation import (
    ApprovedAnswer,
    ApprovedFlag,
    ApprovedState,
    ApprovedVersion,
    FlagState,
)
from fontanel.records.tables.desks import Desk, DeskLink, DeskVersion, TextModel
from fontanel.records.tables.documents import (
    Description,
    Document,
    DocumentName,
    DocumentReference,
    DocumentTag,
    Job,
    JobStage,
    JobState,
    PageEdges,
    Revision,
    Validity,
)
from fontanel.records.tables.kbs import Edition, Kb, PassageRow, Segment, Tombstone
from fontanel.records.tables.notices import Delivery, Notice, Receiver
from fontanel.records.tables.people import (
    IdempotentReply,
    Invitation,
    Key,
    Member,
    PasswordLink,
    Person,
    Role,
    SignIn,
    Team,
)
from fontanel.records.tables.sources import Outcome, Source, SourceItem, Sync, SyncItem, SyncState
from fontanel.records.tables.trials import (
    QuestionSet,
    SetQuestion,
    Trial,
    TrialResult,
    TrialSchedule,
    TrialState,
)

__all__ = [
    "SETTLED_STATES",
    "ApprovedAnswer",
    "ApprovedFlag",
    "ApprovedState",
    "ApprovedVersion",
    "Base",
    "Conversation",
    "Delivery",
    "Description",
    "Desk",
    "DeskLink",
    "DeskVersion",
    "Document",
    "DocumentName",
    "DocumentReference",
    "DocumentState",
    "DocumentTag",
    "Edition",
    "Feedback",
    "FlagState",
    "IdempotentReply",
    "Invitation",
    "Job",
    "JobStage",
    "JobState",
    "Kb",
    "Key",
    "Member",
    "Notice",
    "Outcome",
    "PageEdges",
    "PassageRow",
    "PasswordLink",
    "Person",
    "QuestionSet",
    "Receiver",
    "Revision",
    "Role",
    "Segment",
    "SetQuestion",
    "SignIn",
    "Source",
    "SourceItem",
    "Sync",
    "SyncItem",
    "SyncState",
    "Team",
    "TextModel",
    "Tombstone",
    "Trial",
    "TrialResult",
    "TrialSchedule",
    "TrialState",
    "Turn",
    "TurnState",
    "Use",
    "UtcDateTime",
    "Validity",
    "Word",
    "now",
    "of_team",
]
