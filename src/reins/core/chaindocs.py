"""The settings of a processor as a table for docs/formats/chain.md, read from the fields themselves."""

from reins.core.chainfile import describe_fields
from reins.core.processors import PROCESSORS


def settings_table(kind: str) -> str:
    """A Markdown table: setting, allowed values, default, meaning."""
    rows = ["| setting | allowed | default | meaning |", "|---|---|---|---|"]
    for row in describe_fields(PROCESSORS[kind].Settings):
        if row["kind"] == "number":
            allowed = f"{row['low']:g} to {row['high']:g} {row['unit']}".rstrip()
        elif row["kind"] == "choice":
            allowed = " or ".join(str(option).lower() for option in row["options"])
        else:
            allowed = "self, or the name of a key"
        default = f"{row['default']:g}" if isinstance(row["default"], float) else str(row["default"]).lower()
        rows.append(f"| `{row['name']}` | {allowed} | {default} | {row['help']} |")
    return "\n".join(rows) + "\n"


def write_tables(page: str) -> str:
    """The page with the table under each processor's heading made anew."""
    for kind in PROCESSORS:
        before, rest = page.split(f"<!-- settings of {kind} -->\n", 1)
        after = rest.split("<!-- end -->", 1)[1]
        page = f"{before}<!-- settings of {kind} -->\n{settings_table(kind)}<!-- end -->{after}"
    return page
