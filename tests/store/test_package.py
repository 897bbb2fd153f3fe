"""Whole characters in a file: damaged ones are refused in words, all of them or nothing."""

import io
import json
import zipfile

import numpy as np
import pytest

from tests.conftest import tube
from vonkel.core.errors import BadFile, TooLarge, VonkelError
from vonkel.core.formats.mesh import character_from_mesh
from vonkel.workshop import Workshop


@pytest.fixture(scope="module")
def packed(tmp_path_factory):
    """A tube with three joints, a milestone and a step taken back."""
    shop = Workshop(tmp_path_factory.mktemp("from"))
    number = shop.add(character_from_mesh(tube(), "tube"), {"file": "tube.obj"}, "Brought in tube.obj")
    for y in (0.1, 0.4, 0.8):
        shop.apply(number, "joints.add", {"name": "link", "place": [0, y, 0], "both_sides": False})
    key = shop.character(number).key
    shop.apply(number, "joints.add", {"name": "gone", "place": [0, 0.9, 0], "both_sides": False})
    shop.store.back(number, None)
    return shop.pack(number), key


@pytest.fixture
def shop(tmp_path):
    return Workshop(tmp_path)


def rewritten(data, change):
    """The file with its contents, a dict of name to bytes, changed by `change`."""
    with zipfile.ZipFile(io.BytesIO(data)) as z:
        inside = {n: z.read(n) for n in z.namelist()}
    change(inside)
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as z:
        for n, body in inside.items():
            z.writestr(n, body)
    return out.getvalue()


def listed(change):
    """A change of what character.json says."""

    def apply(inside):
        document = json.loads(inside["character.json"])
        change(document)
        inside["character.json"] = json.dumps(document)

    return apply


def test_a_character_arrives_to_the_byte_and_can_be_undone_there(packed, shop):
    data, key = packed
    number = shop.bring_in("tube.vonkel", data)
    assert shop.character(number).key == key
    ledger = shop.store.ledger(number)
    assert len(ledger) == 4 and not any(r.undone for r in ledger)  # what was taken back stays behind
    shop.store.back(number, None)
    assert len(shop.character(number).joints) == 2
    assert shop.pack(shop.bring_in("tube.vonkel", data)) != b""  # twice on one shelf is allowed
    assert len(shop.store.characters()) == 2


def _array(inside):
    return next(n for n in inside if n.startswith("arrays/"))


def _saved(array):
    body = io.BytesIO()
    np.save(body, array, allow_pickle=True)
    return body.getvalue()


def _lose_array(inside):
    del inside[_array(inside)]


def _other_array(inside):
    inside[_array(inside)] = _saved(np.zeros((4, 3)))


def _objects(inside):
    inside[_array(inside)] = _saved(np.array([{"a": 1}], dtype=object))


def _first_document(document):
    return document["steps"][0]["snapshot"]["document"]


DAMAGE = {
    "an array is missing": (_lose_array, "character file is out of order: There is no item"),
    "an array is another": (_other_array, "was changed"),
    "an array holds objects": (_objects, "can't be read"),
    "no list": (lambda inside: inside.pop("character.json"), "character file is out of order: There is no item"),
    "no steps": (listed(lambda d: d.update(steps=[])), "“steps” in it is out of order"),
    "unknown step": (listed(lambda d: d["steps"][1].update(name="joints.explode")), "Step 2 can't be used"),
    "step out of range": (
        listed(lambda d: d["steps"][1]["params"].update(place=[0, 1e999, 0])),
        "Step 2 can't be used",
    ),
    "no first state": (listed(lambda d: d["steps"][0].update(snapshot=None)), "lacks the first"),
    "milestone on nothing": (
        listed(lambda d: d["milestones"].append({"number": 99, "name": "x", "made": d["steps"][0]["made"]})),
        "isn't there",
    ),
    "part too long": (
        listed(lambda d: _first_document(d)["parts"][0].update(points=[0, 10_000])),
        "doesn't fit together",
    ),
    "a rule about nobody": (
        listed(
            lambda d: _first_document(d)["rules"].append({"kind": "spring", "name": "s", "things": ["joint:nobody"]})
        ),
        "can't be solved: There is no joint called “nobody”",
    ),
    "a kit of nothing": (
        listed(lambda d: _first_document(d)["kits"].append({"name": "arm", "kind": "arm", "joints": {}})),
        "can't be solved",
    ),
    "a kit of no kind": (
        listed(lambda d: _first_document(d)["kits"].append({"name": "wheel", "kind": "wheel"})),
        "there is no kit of the kind “wheel”",
    ),
}


@pytest.mark.parametrize("what", DAMAGE)
def test_damage_is_named_and_leaves_the_shelf_as_it_was(packed, shop, what):
    change, words = DAMAGE[what]
    with pytest.raises(BadFile, match=words) as caught:
        shop.bring_in("tube.vonkel", rewritten(packed[0], change))
    assert "tube.vonkel" in caught.value.where and caught.value.todo
    assert shop.store.characters() == []


def test_a_file_that_unpacks_without_end_is_refused_before_it_does(shop, monkeypatch, packed):
    from vonkel.workshop import package

    monkeypatch.setattr(package, "MAX_UNPACKED", 1000)
    with pytest.raises(TooLarge, match="unpacks to more"):
        shop.bring_in("tube.vonkel", packed[0])


def test_no_flipped_byte_and_no_cut_gets_past_or_brings_it_down(packed, shop):
    """Seeded damage anywhere: either it is refused in words, or what arrives is a sound character."""
    data, key = packed
    rng = np.random.default_rng(7)
    arrived = 0
    for i in range(400):
        broken = bytearray(data)
        if i % 4 == 0:
            del broken[int(rng.integers(len(data))) :]
        for _ in range(int(rng.integers(1, 4))):
            if broken:
                broken[int(rng.integers(len(broken)))] = int(rng.integers(256))
        try:
            number = shop.bring_in("tube.vonkel", bytes(broken))
        except VonkelError as error:
            assert error.what and error.todo
        else:
            arrived += 1
            assert shop.character(number).key == key  # only padding or a date inside the archive was touched
    assert arrived < 200 and len(shop.store.characters()) == arrived
