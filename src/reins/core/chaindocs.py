"""The settings of a processor as a table for docs/formats/chain.md, read from the fields themselves."""

from typing import Any

from reins.core.processors import PROCESSORS
from reins.core.settings.fields import describe_fields


def settings_table(kind: str) -> str:
    """A Markdown table: setting, allowed values, default, meaning."""
    rows = ["| setting | allowed | default | meaning |", "|---|---|---|---|"]
    return "\n".join(rows + _rows(describe_fields(PROCESSORS[kind].Settings))) + "\n"


def _rows(described: list[dict[str, Any]], prefix: str = "") -> list[str]:
    rows = []
    for row in described:
        if row["kind"] == "list":
            allowed = f"up to {row['most']}"
            if "low" in row:
                allowed += f", {row['low']:g} to {row['high']:g} {row['unit']}"
            rows.append(f"| `{prefix}{row['name']}` | {allowed} | {row['default']} | {row['help']} |")
            rows += _rows(row["fields"], f"{prefix}{row['name']}.N.")
            continue
        if row["kind"] == "sources":
            allowed = f"up to {row['most']}, each with `source` and `gain_db`"
            rows.append(f"| `{prefix}{row['name']}` | {allowed} | [] | {row['help']} |")
            continue
        if row["kind"] == "number":
            allowed = f"{row['low']:g} to {row['high']:g} {row['unit']}".rstrip()
        elif row["kind"] == "choice":
            allowed = " or ".join(str(option).lower() for option in row["options"])
        elif row["kind"] == "recording":
            allowed = "an audio file beside the chain file; in a session the id of a response"
        else:
            allowed = "self, before, or the name of a key"
        default = (
            f"{row['default']:g}"
            if isinstance(row["default"], float)
            else "none"
            if row["kind"] == "recording"
            else str(row["default"]).lower().replace("()", "[]")
        )
        rows.append(f"| `{prefix}{row['name']}` | {allowed} | {default} | {row['help']} |")
    return rows


def write_tables(page: str) -> str:
    """The page with the table under each processor's heading made anew."""
    for kind in PROCESSORS:
        before, rest = page.split(f"<!-- settings of {kind} -->\n", 1)
        after = rest.split("<!-- end -->", 1)[1]
        page = f"{before}<!-- settings of {kind} -->\n{settings_table(kind)}<!-- end -->{after}"
    return page
