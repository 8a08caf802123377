"""How large a session is, counted before anything is built of it."""

from typing import Any


def budget_of(document: Any) -> tuple[int, int]:
    """Processors, and points of reins, of a session as plain data, of whatever shape, with models among it."""

    def one(value: Any, name: str) -> Any:
        return value.get(name) if isinstance(value, dict) else getattr(value, name, None)

    def items(value: Any, name: str) -> list[Any]:
        found = one(value, name)
        return list(found.values()) if isinstance(found, dict) else found if isinstance(found, list) else []

    processors = points = 0
    for strip in (*items(document, "tracks"), *items(document, "buses"), one(document, "master")):
        for chain in (strip, *items(strip, "drafts")):
            processors += len(chain if isinstance(chain, list) else items(chain, "chain"))
            points += sum(len(items(one(rein, "by"), "points")) for rein in items(chain, "reins"))
    return processors, points
