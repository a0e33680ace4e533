"""The tables. What a team owns is only read through `TeamScope`."""

from __future__ import annotations

from fontanel.facts import SETTLED_STATES, DocumentState
from fontanel.records.tables.audit import AuditEntry, AuditForwarding, AuditLog
from fontanel.records.tables.backups import Backup, BackupState
from fontanel.records.tables.base import Base, UtcDateTime, Word, now, of_team
from fontanel.records.tables.channels import (
    Channel,
    ChannelMessage,
    MessageKind,
    MessageState,
)
from fontanel.records.tables.conversations import Conversation, Feedback, Turn, TurnState, Use
from fontanel.records.tables.curation import (
    ApprovedAnswer,
    ApprovedFlag,
    ApprovedState,
    ApprovedVersion,
    FlagState,
    Proposal,
    ProposalRun,
    ProposalState,
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
    ProposedDocument,
    ProposedDocumentState,
    Revision,
    Validity,
)
from fontanel.records.tables.embedders import Embedder
from fontanel.records.tables.erasures import Erasure
from fontanel.records.tables.followed import FollowedAnswer
from fontanel.records.tables.gaps import (
    AnswerSource,
    Gap,
    GapKind,
    GapQuestion,
    GapState,
    PassageUse,
)
from fontanel.records.tables.kbs import Edition, Kb, PassageRow, PausedBy, Segment, Tombstone
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
from fontanel.records.tables.pictures import PictureDescription, RevisionPicture
from fontanel.records.tables.quotas import DefaultQuotas, PassageCounts, TeamCounts
from fontanel.records.tables.sources import Outcome, Source, SourceItem, Sync, SyncItem, SyncState
from fontanel.records.tables.transcripts import Transcriber, TranscriptPart
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
    "AnswerSource",
    "ApprovedAnswer",
    "ApprovedFlag",
    "ApprovedState",
    "ApprovedVersion",
    "AuditEntry",
    "AuditForwarding",
    "AuditLog",
    "Backup",
    "BackupState",
    "Base",
    "Channel",
    "ChannelMessage",
    "Conversation",
    "DefaultQuotas",
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
    "Embedder",
    "Erasure",
    "Feedback",
    "FlagState",
    "FollowedAnswer",
    "Gap",
    "GapKind",
    "GapQuestion",
    "GapState",
    "IdempotentReply",
    "Invitation",
    "Job",
    "JobStage",
    "JobState",
    "Kb",
    "Key",
    "Member",
    "MessageKind",
    "MessageState",
    "Notice",
    "Outcome",
    "PageEdges",
    "PassageCounts",
    "PassageRow",
    "PassageUse",
    "PasswordLink",
    "PausedBy",
    "Person",
    "PictureDescription",
    "Proposal",
    "ProposalRun",
    "ProposalState",
    "ProposedDocument",
    "ProposedDocumentState",
    "QuestionSet",
    "Receiver",
    "Revision",
    "RevisionPicture",
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
    "TeamCounts",
    "TextModel",
    "Tombstone",
    "Transcriber",
    "TranscriptPart",
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
