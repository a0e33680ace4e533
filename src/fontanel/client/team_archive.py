"""Archives of teams: what one service exports, and another imports.

An archive is a ZIP file. `team.json` has all settings; `kbs/*.pack` are the active editions of its
knowledge bases with their documents, texts, passages and vectors. Credentials, people, keys,
conversations and records are not in it.
"""

from fontanel.client._team_export import export_team
from fontanel.client._team_format import TeamArchive
from fontanel.client._team_import import ArchiveUnreadable, TeamImport, import_team

__all__ = ["ArchiveUnreadable", "TeamArchive", "TeamImport", "export_team", "import_team"]
