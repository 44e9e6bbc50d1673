"""Motion of a file as a take: for bodies of the same names, told how its moments became frames."""

import io

import pytest

from zembrik.core.motion.rigid import Mover
from zembrik.core.problem import Problem
from zembrik.library.motion_in import ask_for_take, take_from_file
from zembrik.library.shots import create_shot, create_show, get_shot, head_setup
from zembrik.library.takes import use_take

# A cart that goes a metre along X in a second, by a table at 12 frames a second, in centimetres, Z up.
TABLE = "frame,seconds,body,x,y,z,qx,qy,qz,qw\n" + "\n".join(
    f"{k},{(k - 10) / 12},{body},{(k - 10) * 100 / 12},0,0,0,0,0,1" for k in range(10, 23) for body in ("cart", "ghost")
)


@pytest.fixture
def shot(database, request):
    boxes = [
        {"name": name, "role": role, "mesh": {"shape": "box", "size": [1, 1, 1]}, "place": {"translate": [2, 1, 0]}}
        for name, role in (("cart", "collider"), ("rag", "left out"))
    ]
    with database.session() as session:
        show = create_show(session, f"Motion of {request.node.name}")
        return create_shot(session, show, "A", "A", {"bodies": boxes}).id


def order_of(database, settings, shot, data, **more):
    with database.session() as session:
        return ask_for_take(session, settings, shot, io.BytesIO(data), "cart.csv", **more).order


def test_a_table_becomes_a_take_for_bodies_of_the_same_names(database, settings, shot):
    order = order_of(database, settings, shot, TABLE.encode(), unit="cm", up_axis="z", label="to the gate")
    with database.session() as session:
        take, words = take_from_file(session, settings, shot, order)
        assert [t["body"] for t in take.tracks] == ["cart", "ghost"] and take.source == "cart.csv"
        for told in (
            "centimetres with Z up, as chosen",
            "13 moments became 25 frames",
            "No body here is called 'ghost'",
        ):
            assert told in words
        patch, _ = use_take(head_setup(get_shot(session, shot)), take, None)
        assert [p["path"] for p in patch] == ["/bodies/0/motion"]
        mover = Mover(patch[0]["value"], (2, 1, 0))
        for frame, way in ((10, 0.0), (22, 0.5), (34, 1.0)):
            assert mover.at(frame)[1] == pytest.approx([way, 0.0, 0.0], abs=1e-4)
        # The file is held for a day: a second take of it needs no second upload, and one that is gone is told.
        assert take_from_file(session, settings, shot, {**order, "label": "for the rag", "body": "rag"})[0].tracks
        with pytest.raises(Problem, match="Hand it in again"):
            take_from_file(session, settings, shot, {**order, "sha256": "0" * 64})


def test_two_rows_a_body_cannot_ask_for_frames_without_end(database, settings, shot):
    far = "\n".join(f"{frame},thing {k},0,0,0,0,0,0,1" for k in range(60) for frame in (1, 19_000))
    order = order_of(database, settings, shot, f"frame,body,x,y,z,qx,qy,qz,qw\n{far}".encode())
    with database.session() as session, pytest.raises(Problem, match="1,000,000 frames, all together"):
        take_from_file(session, settings, shot, order)


def test_a_name_that_is_taken_leaves_the_file_where_it_is(database, settings, shot):
    for last in (False, True):
        order = order_of(database, settings, shot, TABLE.encode(), label="same")
        with database.session() as session:
            if not last:
                take_from_file(session, settings, shot, order)
                continue
            with pytest.raises(Problem, match="already"):
                take_from_file(session, settings, shot, order)
    order["label"] = "another"
    with database.session() as session:
        assert take_from_file(session, settings, shot, order)[0].name == "another"


@pytest.mark.parametrize(
    ("more", "words"),
    [({"unit": "ell"}, "no unit"), ({"up_axis": "x"}, "point up"), ({"first": 1e9}, "too far"),
     ({"bound_m": -1.0}, "bounds")],
)  # fmt: skip
def test_an_order_that_cannot_be_carried_out_is_refused_at_once(database, settings, shot, more, words):
    with pytest.raises(Problem, match=words):
        order_of(database, settings, shot, TABLE.encode(), **more)
