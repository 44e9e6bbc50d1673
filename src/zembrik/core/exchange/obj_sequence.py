"""A sequence of OBJ files in a zip: BODY/BODY.0001.obj and so on."""

from __future__ import annotations

import io
import zipfile
from pathlib import Path

from zembrik.core.exchange.delivery import Content, Tell, told_frames
from zembrik.core.exchange.obj import write_obj

# A zip records when its files were made; ours always say the same, so that equal deliveries are equal bytes.
NO_TIME = (1980, 1, 1, 0, 0, 0)


def write(content: Content, path: Path, tell: Tell) -> None:
    """Write all frames; see `delivery.deliver`."""
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as archive:
        for frame in told_frames(content, tell):
            for part in content.parts:
                text = io.BytesIO()
                write_obj(text, content.points(part, frame), content.faces(part, frame), part.name)
                number = f"{frame:04d}" if frame >= 0 else f"-{-frame:04d}"
                info = zipfile.ZipInfo(f"{part.file_name}/{part.file_name}.{number}.obj", NO_TIME)
                info.compress_type = zipfile.ZIP_DEFLATED
                archive.writestr(info, text.getvalue())
