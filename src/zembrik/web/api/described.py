"""The interface for scripts, described: as OpenAPI for programs, and as a page for people."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

from fastapi import APIRouter, FastAPI, Request
from fastapi.responses import JSONResponse, Response

from zembrik import __version__
from zembrik.web.api import bakes, deliveries, motion, shots
from zembrik.web.render import Words, templates

ROUTERS = [shots.router, bakes.router, motion.router, deliveries.router]
router = APIRouter()
WORDS = (
    "Everything the pages do, for scripts. Requests and answers are JSON. What is refused answers 404, 409 or 422 with "
    '{"problem": {"what", "where", "remedy"}}. Long work answers at once with its number; ask for it until its state '
    "is done, failed or stopped."
)


@lru_cache(maxsize=1)
def openapi() -> dict[str, Any]:
    """Return the description as OpenAPI 3.1."""
    app = FastAPI(
        title="Zembrik", version=__version__, description=WORDS, docs_url=None, redoc_url=None,
        generate_unique_id_function=lambda route: route.name.replace("_", "-"),
    )  # fmt: skip
    for one in ROUTERS:
        app.include_router(one)
    return app.openapi()


def operations() -> list[Words]:
    """Return every operation: its id, method, path, what it does, its group, parameters and fields."""
    document, found = openapi(), []
    for path, methods in document["paths"].items():
        for method, told in methods.items():
            content: Words = told.get("requestBody", {}).get("content", {})
            body: Words = next(iter(content.values())) if content else {}
            fields = fields_of(document, body.get("schema", {}))
            found.append({
                "id": told["operationId"], "method": method.upper(), "path": path, "group": told["tags"][0],
                "summary": told["description"].partition("\n")[0], "told": told["description"],
                "parameters": told.get("parameters", []), "fields": fields,
                "file": "multipart/form-data" in content,
            })  # fmt: skip
    return found


def fields_of(document: dict[str, Any], schema: dict[str, Any]) -> list[Words]:
    """Return the fields of a request's body: name, schema, and whether it is needed."""
    if "$ref" in schema:
        schema = document["components"]["schemas"][schema["$ref"].rsplit("/", 1)[-1]]
    needed = set(schema.get("required", []))
    return [
        {"name": name, "schema": told, "needed": name in needed} for name, told in schema.get("properties", {}).items()
    ]


@router.get("/api/openapi.json", include_in_schema=False)
def described() -> Response:
    """Return the description for programs."""
    return JSONResponse(openapi())


@router.get("/api", include_in_schema=False)
def page(request: Request) -> Response:
    """Show the description to people."""
    groups: dict[str, list[Words]] = {}
    for one in operations():
        groups.setdefault(one["group"], []).append(one)
    return templates.TemplateResponse(request, "api.html", {"groups": groups, "words": WORDS})
