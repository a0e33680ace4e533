"""Write `deploy/dashboard.json`: what /metrics reports, as a Grafana dashboard.

.venv/bin/python tools/write_dashboard.py [FILE]
"""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Any

TARGET = Path(__file__).parent.parent / "deploy" / "dashboard.json"

#: Title, unit, and each query with its legend.
PANELS: list[tuple[str, str, list[tuple[str, str]]]] = [
    (
        "Requests a second",
        "reqps",
        [("sum by (status) (rate(fontanel_requests_total[5m]))", "{{status}}")],
    ),
    (
        "Time of a request, 95 %",
        "s",
        [
            (
                "topk(8, histogram_quantile(0.95, sum by (le, route)"
                " (rate(fontanel_request_seconds_bucket[5m]))))",
                "{{route}}",
            )
        ],
    ),
    (
        "Questions a minute",
        "short",
        [("60 * sum by (outcome) (rate(fontanel_answers_total[5m]))", "{{outcome}}")],
    ),
    (
        "Time of an answer",
        "s",
        [
            (
                f"histogram_quantile({share}, sum by (le)"
                " (rate(fontanel_answer_seconds_bucket[5m])))",
                f"{share:.0%}",
            )
            for share in (0.5, 0.95)
        ],
    ),
    (
        "Documents on their way",
        "short",
        [
            ("sum by (stage, state) (fontanel_jobs)", "{{stage}}, {{state}}"),
            ("fontanel_documents_waiting", "all"),
        ],
    ),
    (
        "Oldest document that waits",
        "s",
        [("max by (stage) (fontanel_oldest_job_seconds)", "{{stage}}")],
    ),
    (
        "Sources",
        "short",
        [
            ("sum(fontanel_source_late)", "late"),
            ("sum(fontanel_source_failing)", "failing"),
            ("sum(fontanel_source_pending)", "changes not answerable yet"),
        ],
    ),
    (
        "Age of what sources have shown",
        "s",
        [("topk(8, fontanel_source_seen_seconds)", "{{source}}")],
    ),
    (
        "From a change to an answer, worst of seven days",
        "s",
        [('topk(8, fontanel_source_lag_seconds{of="worst"})', "{{source}}")],
    ),
    (
        "Changes answerable in time",
        "percentunit",
        [("min by (source) (fontanel_source_within_target)", "{{source}}")],
    ),
    (
        "Approved answers",
        "short",
        [
            ("sum(fontanel_approved_answers)", "approved"),
            ("sum(fontanel_approved_answers_flagged)", "on changed text"),
        ],
    ),
    (
        "Quotas in use",
        "percentunit",
        [("topk(8, fontanel_quota_share)", "{{team}}, {{quota}}")],
    ),
    ("Free disk", "bytes", [("fontanel_disk_free_bytes", "free")]),
    (
        "Age of the last backup",
        "s",
        [("fontanel_backup_age_seconds", "age"), ("fontanel_backup_failed", "failed")],
    ),
    (
        "Workers of the cluster",
        "short",
        [("fontanel_cluster_workers", "workers"), ("fontanel_cluster_away", "away")],
    ),
]


def dashboard() -> dict[str, Any]:
    """Return the dashboard, with two panels in a row."""
    panels = [
        {
            "id": number + 1,
            "title": title,
            "type": "timeseries",
            "datasource": {"type": "prometheus", "uid": "${source}"},
            "fieldConfig": {"defaults": {"unit": unit, "min": 0}, "overrides": []},
            "gridPos": {"x": 12 * (number % 2), "y": 8 * (number // 2), "w": 12, "h": 8},
            "targets": [
                {"refId": chr(65 + index), "expr": query, "legendFormat": legend}
                for index, (query, legend) in enumerate(queries)
            ],
        }
        for number, (title, unit, queries) in enumerate(PANELS)
    ]
    source = {"name": "source", "type": "datasource", "query": "prometheus", "label": "Metrics"}
    return {
        "title": "Fontanel",
        "uid": "fontanel",
        "schemaVersion": 39,
        "time": {"from": "now-6h", "to": "now"},
        "refresh": "30s",
        "templating": {"list": [source]},
        "panels": panels,
    }


if __name__ == "__main__":
    target = Path(sys.argv[1]) if len(sys.argv) > 1 else TARGET
    target.write_text(json.dumps(dashboard(), indent=1) + "\n")
