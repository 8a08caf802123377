"""What /api/openapi.json says is true: whatever is sent, no answer has a status it does not list, and none is a 500.

How many examples each operation gets is set by REINS_FUZZ; `make soak` asks for many.
"""

import os

import pytest
import schemathesis
from hypothesis import HealthCheck, Phase, given, settings
from schemathesis.checks import not_a_server_error
from schemathesis.specs.openapi.checks import response_schema_conformance, status_code_conformance

from reins.core.sessions import Document
from reins.services.house import House
from reins.store import sessions as store
from reins.web.app import AppSettings, create_app
from reins.web.guard import Guard

EXAMPLES = int(os.environ.get("REINS_FUZZ", "2"))
SESSION = "a" * 12
CHECKS = [not_a_server_error, status_code_conformance, response_schema_conformance]


@pytest.fixture
def described(tmp_path):
    """The schema of a running application that has a session."""
    house = House(tmp_path / "data")
    app = create_app(AppSettings(max_upload_bytes=1 << 20), house)
    with house.database() as db:
        store.add_session(db, SESSION, Document(name="Evening"))
    schema = schemathesis.openapi.from_dict(app.openapi())
    schema.app = Guard(app, ("localhost", "testserver"))
    yield schema
    house.close()


def attacked(operation):
    """Send what fits the description of an operation, and what does not."""

    @settings(
        max_examples=EXAMPLES, deadline=None, derandomize=True, database=None, phases=[Phase.generate],
        suppress_health_check=list(HealthCheck),
    )  # fmt: skip
    @given(case=operation.as_strategy() | operation.as_strategy(generation_mode=schemathesis.GenerationMode.NEGATIVE))
    def attempt(case):
        nonlocal sent
        if "session_id" in case.path_parameters and sent % 4:
            case.path_parameters["session_id"] = SESSION  # most often one that is there
        sent += 1
        case.call_and_validate(base_url="http://localhost", checks=CHECKS)

    sent = 0
    attempt()
    return sent


def test_no_answer_is_undocumented(described):
    operations = [found.ok() for found in described.get_all_operations()]
    assert {"/api/sessions", "/api/sessions/{session_id}/changes", "/api/lost/{name}"} <= {o.path for o in operations}

    assert sum(attacked(operation) for operation in operations) >= EXAMPLES * len(operations) // 2
