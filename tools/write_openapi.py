"""Write the API's description and the console's types: `make api`."""

from __future__ import annotations

import json
from pathlib import Path

from fontanel.service.app import create_app
from fontanel.settings import Settings

TARGET = Path(__file__).parent.parent / "docs" / "openapi.json"


def text() -> str:
    return json.dumps(create_app(Settings()).openapi(), indent=1, ensure_ascii=False) + "\n"


if __name__ == "__main__":
    TARGET.write_text(text())
