"""schemathesis sends every operation what its description allows, and what it does not: nothing answers otherwise."""

import pytest
import schemathesis
from hypothesis import HealthCheck, Phase, settings
from schemathesis.checks import not_a_server_error
from schemathesis.specs.openapi.checks import (
    content_type_conformance,
    response_schema_conformance,
    status_code_conformance,
)

from zembrik.web.api.described import openapi

CHECKS = [not_a_server_error, status_code_conformance, content_type_conformance, response_schema_conformance]
schema = schemathesis.openapi.from_dict(openapi())


@pytest.fixture(scope="module")
def seeded(client, settings):
    """A show with a shot, so that some of what is sent finds something."""
    show = client.post("/api/shows", json={"title": "Described"}).json()["id"]
    document = {
        "bodies": [{"name": "sheet", "role": "cloth", "mesh": {"shape": "grid", "size": [1, 1], "segments": [4, 4]}}]
    }
    client.post(f"/api/shows/{show}/shots", json={"code": "D", "title": "D", "setup": document})
    return client


@schema.exclude(path="/api/assets").parametrize()  # a file is sent as no description can say
@settings(
    max_examples=8, phases=[Phase.explicit, Phase.generate], derandomize=True, deadline=None,
    suppress_health_check=list(HealthCheck),
)  # fmt: skip
def test_every_operation_answers_as_it_is_described(case, seeded):
    kwargs = case.as_transport_kwargs(base_url="http://127.0.0.1")
    kwargs.pop("cookies", None)
    method, url = kwargs.pop("method"), kwargs.pop("url")
    answer = seeded.request(method, url, **kwargs)
    answer.request.read()
    case.validate_response(schemathesis.Response.from_any(answer), checks=CHECKS)
