"""Write the demo's and the hard setups and their meshes to examples/, and the JSON Schema to docs/."""

import json
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT / "src"))

from zembrik.core.exchange.tracks import schema as tracks_schema  # noqa: E402
from zembrik.core.setup.document import Setup  # noqa: E402
from zembrik.library.fair import demo_shots  # noqa: E402
from zembrik.library.fair_hard import hard_shots  # noqa: E402
from zembrik.web.api.described import openapi  # noqa: E402


def written(setup: dict) -> str:
    """Return a setup as JSON, indented; a body a line where there are many."""
    if len(setup["bodies"]) < 40:
        return json.dumps(setup, indent=1) + "\n"
    bodies = ",\n  ".join(json.dumps(body) for body in setup["bodies"])
    return json.dumps({**setup, "bodies": []}, indent=1).replace('"bodies": []', f'"bodies": [\n  {bodies}\n ]') + "\n"


if __name__ == "__main__":
    for shot in [*demo_shots(), *hard_shots()]:
        name = shot.setup["title"].lower().replace(" ", "-")
        (ROOT / "examples" / f"{name}.json").write_text(written(shot.setup))
        for file, data in shot.files.items():
            (ROOT / "examples" / file).write_bytes(data)
    schema = json.dumps(Setup.model_json_schema(by_alias=True), indent=1, ensure_ascii=False)
    (ROOT / "docs" / "setup.schema.json").write_text(schema + "\n")
    (ROOT / "docs" / "openapi.json").write_text(json.dumps(openapi(), indent=1, ensure_ascii=False) + "\n")
    (ROOT / "docs" / "tracks.schema.json").write_text(json.dumps(tracks_schema(), indent=1) + "\n")
