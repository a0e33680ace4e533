"""Write the synchronous client from the asynchronous one: `make client`.

A test fails when the files are not what this makes.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
from pathlib import Path

import unasync

CLIENT = Path(__file__).parent.parent / "src" / "fontanel" / "client"
SOURCE, TARGET = CLIENT / "_async", CLIENT / "_sync"
NOTE = "Made from its asynchronous twin by `make client`; do not edit."

#: What differs besides the keywords.
REPLACEMENTS = {
    "_async": "_sync",
    "AsyncBaseTransport": "BaseTransport",
    "AsyncRetrying": "Retrying",
    "AsyncIterator": "Iterator",
    "aclose": "close",
    "aiter_bytes": "iter_bytes",
    "aiter_lines": "iter_lines",
    "aiter_sse": "iter_sse",
    "aread": "read",
    "asynccontextmanager": "contextmanager",
    "asyncio": "time",
} | {
    f"Async{name}": name
    for name in (
        "AuditClient",
        "BaseClient",
        "Client",
        "ConversationClient",
        "DeskClient",
        "DocumentClient",
        "KbClient",
        "PeopleClient",
        "QuestionClient",
        "QuotaClient",
        "SourceClient",
    )
}


def make() -> dict[str, str]:
    """Return the synchronous modules by their names."""
    made: dict[str, str] = {}
    with tempfile.TemporaryDirectory() as scratch:
        rule = unasync.Rule(str(SOURCE) + "/", scratch + "/", additional_replacements=REPLACEMENTS)
        sources = [path for path in SOURCE.glob("*.py") if path.name != "__init__.py"]
        unasync.unasync_files([str(path) for path in sources], [rule])
        for path in sources:
            text = (Path(scratch) / path.name).read_text()
            first, _, rest = text.partition("\n")
            doc = first.removesuffix('"""')
            made[path.name] = f'{doc}\n\n{NOTE}\n"""\n{_without_twice(rest)}'
    return made


def _without_twice(text: str) -> str:
    """Drop an import that appears twice, because two modules became one."""
    double = "import time\nimport time\n"
    text = text.replace(
        "import time\nimport secrets\nimport time\n", "import secrets\nimport time\n"
    )
    return text.replace(double, "import time\n")


def write(target: Path) -> None:
    """Write the files to a folder, sorted and formatted."""
    for name, text in make().items():
        (target / name).write_text(text)
    ruff = [sys.executable, "-m", "ruff"]
    config = ["--quiet", "--config", str(CLIENT.parents[2] / "pyproject.toml"), str(target)]
    subprocess.run(
        [*ruff, "check", "--fix", "--unsafe-fixes", "--select", "I,F401,UP028", *config], check=True
    )
    subprocess.run([*ruff, "format", *config], check=True)


if __name__ == "__main__":
    write(Path(sys.argv[1]) if len(sys.argv) > 1 else TARGET)
