"""Commands that ask a running Zembrik: one for each operation of its interface for scripts, made from its description.

    zembrik at [--server URL] OPERATION [numbers in its path] [--option value …]

What an operation takes as JSON are its options; a list is an option given again and again, or JSON. The answer is
printed as JSON. ZEMBRIK_TOKEN in the environment signs in.

With --wait, long work is waited for: exit code 0 when it is done, 3 when it failed or was stopped.
"""

from __future__ import annotations

import json
import os
import sys
import time
import urllib.error
import urllib.parse
import urllib.request
import uuid
from pathlib import Path
from typing import Any

import click

from zembrik.core.problem import Problem

Words = dict[str, Any]
USUAL = "http://127.0.0.1:8460"
ACTIVE = ("queued", "running")
WATCHED = {
    "kind": "errands",
    "frames_all": "deliveries",
    "handed_in": "bakes",
}  # what tells where an answer is asked for


class Operations(click.Group):
    """One command for each operation."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """Return the operations' names."""
        return sorted(o["id"] for o in _operations())

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        """Return the command of an operation; None when there is none."""
        for operation in _operations():
            if operation["id"] == name:
                return _command(operation)
        return None


def _operations() -> list[Words]:
    from zembrik.web.api.described import operations  # loads the pages' code, which other commands do without

    return operations()


def _command(operation: Words) -> click.Command:
    inside = [p["name"] for p in operation["parameters"] if p["in"] == "path"]
    params: list[click.Parameter] = [click.Argument([name], type=int) for name in inside]
    params += [_option(p["name"], p["schema"], p.get("required", False))
               for p in operation["parameters"] if p["in"] == "query"]  # fmt: skip
    if operation["file"]:
        params.append(click.Argument(["file"], type=click.Path(exists=True, dir_okay=False, path_type=Path)))
    else:
        params += [_option(f["name"], f["schema"], f["needed"]) for f in operation["fields"]]
    params.append(click.Option(["--wait"], is_flag=True, help="Wait until what was asked for is done."))
    asked = {p["name"] for p in operation["parameters"] if p["in"] == "query"}

    @click.pass_context
    def run(ctx: click.Context, /, wait: bool, **values: Any) -> None:
        server = ctx.find_root().params.get("server") or ctx.obj or USUAL
        path = operation["path"]
        for name in inside:
            path = path.replace("{" + name + "}", str(values.pop(name)))
        given = {name: value for name, value in values.items() if value not in (None, ())}
        query = {k: v for k, v in given.items() if k in asked}
        if query:
            path += "?" + urllib.parse.urlencode(query)
        body = {k: v for k, v in given.items() if k not in asked}
        data, kind = None, "application/json"
        if operation["file"]:
            data, kind = _form(body["file"])
        elif operation["fields"]:
            data = json.dumps(body).encode()
        answer = ask(server, operation["method"], path, data, kind)
        if isinstance(answer, bytes):
            sys.stdout.buffer.write(answer)
            return
        if wait:
            answer = waited(server, answer)
        click.echo(json.dumps(answer, indent=1, ensure_ascii=False))
        states = [a.get("state") for a in (answer if isinstance(answer, list) else [answer]) if isinstance(a, dict)]
        if wait and any(state in ("failed", "stopped") for state in states):
            sys.exit(3)

    return click.Command(operation["id"], params=params, callback=run, help=operation["told"])


def _option(name: str, schema: Words, needed: bool) -> click.Option:
    """Return the option for a field: plain values as they are, lists given again and again, all else as JSON."""
    kinds = [schema, *schema.get("anyOf", [])]
    types = {k.get("type") for k in kinds}
    flag = f"--{name.replace('_', '-')}"
    words = schema.get("description", "")
    if "default" in schema and schema["default"] not in (None, "", []):
        words = f"{words} As usual {json.dumps(schema['default'])}.".strip()
    choices = next((k["enum"] for k in kinds if "enum" in k), None)
    if "array" in types and all("prefixItems" not in k for k in kinds):
        item = next(k for k in kinds if k.get("type") == "array").get("items", {})
        if item.get("type") in ("string", "integer"):
            of = int if item["type"] == "integer" else str
            return click.Option([flag, name], multiple=True, type=of, required=needed, help=words)
        return click.Option([flag, name], type=Json(), required=needed, help=f"{words} As JSON.".strip())
    if "array" in types or "object" in types:
        return click.Option([flag, name], type=Json(), required=needed, help=f"{words} As JSON.".strip())
    if choices:
        return click.Option([flag, name], type=click.Choice(choices), required=needed, help=words)
    kind = bool if "boolean" in types else int if "integer" in types else float if "number" in types else str
    return click.Option([flag, name], type=kind, required=needed, help=words)


class Json(click.ParamType):  # type: ignore[type-arg]
    """A value typed as JSON, or @FILE for what a file holds."""

    name = "json"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        """Return the value."""
        if not isinstance(value, str):
            return value
        try:
            return json.loads(Path(value[1:]).read_bytes() if value.startswith("@") else value)
        except (ValueError, OSError) as error:
            self.fail(f"it is no JSON: {error}", param, ctx)


def _form(path: Path) -> tuple[bytes, str]:
    """Return a file as a form, and the form's kind."""
    border = uuid.uuid4().hex
    name = path.name.replace('"', "%22")
    kind = f"multipart/form-data; boundary={border}"
    head = f'--{border}\r\nContent-Disposition: form-data; name="file"; filename="{name}"\r\n\r\n'
    return (
        head.encode() + path.read_bytes() + f"\r\n--{border}--\r\n".encode(),
        kind,
    )


def ask(server: str, method: str, path: str, data: bytes | None = None, kind: str = "application/json") -> Any:
    """Return a server's answer: plain JSON values, or bytes where it answers so.

    Raises:
        Problem: what the server says, or that it does not answer.
    """
    if not server.startswith(("http://", "https://")):
        raise Problem(f"'{server}' is no address.", "--server", f"It is as in {USUAL}.")
    headers = {"Content-Type": kind}
    if token := os.environ.get("ZEMBRIK_TOKEN"):
        headers["Authorization"] = f"Bearer {token}"
    request = urllib.request.Request(server.rstrip("/") + path, data, headers, method=method)
    try:
        with urllib.request.urlopen(request, timeout=600) as answer:
            raw = answer.read()
            return json.loads(raw) if "json" in (answer.headers.get("Content-Type") or "") else raw
    except urllib.error.HTTPError as refused:
        try:
            told = json.loads(refused.read())["problem"]
        except (ValueError, KeyError):
            raise Problem(f"the server answers {refused.code}.", server, "Is it a Zembrik of this version?") from None
        raise Problem(told["what"], told["where"], told["remedy"]) from None
    except (urllib.error.URLError, OSError) as error:
        reason = getattr(error, "reason", error)
        raise Problem(
            f"no Zembrik answers: {reason}.", server, "Start it with './zembrik demo', or say --server."
        ) from None


def waited(server: str, answer: Any) -> Any:
    """Return an answer again once what it is about is not at work any more."""
    if isinstance(answer, list):
        return [waited(server, one) for one in answer]
    where = next((path for name, path in WATCHED.items() if isinstance(answer, dict) and name in answer), None)
    while where and answer.get("state") in ACTIVE:
        time.sleep(0.4)
        answer = ask(server, "GET", f"/api/{where}/{answer['id']}")
    return answer


@click.command(cls=Operations, context_settings={"help_option_names": ["-h", "--help"]})
@click.option("--server", envvar="ZEMBRIK_SERVER", default=USUAL, show_default=True, help="Where it is served.")
@click.pass_context
def at(ctx: click.Context, server: str) -> None:
    """Ask a running Zembrik: bake, search caches, keep takes, deliver; './zembrik at OPERATION --help' tells more."""
    ctx.obj = server
