"""SVG paths and picture files, read by the letter of their standards, and refused where they are broken."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from vonkel.core.errors import BadFile, TooLarge, VonkelError
from vonkel.core.formats import read_character
from vonkel.core.formats.gltf_tree import Writer
from vonkel.core.formats.pictures import picture_kind, picture_size
from vonkel.core.formats.svg import path_lines, read
from vonkel.core.handover import written


def one(d):
    lines = path_lines(d)
    assert len(lines) == 1
    return lines[0]


@pytest.mark.parametrize(
    "absolute,relative",
    [
        ("M10 20 L30 40", "m10 20 l20 20"),
        ("M10 20 H50 V70", "m10 20 h40 v50"),
        ("M0 0 C10 0 20 10 20 20 S30 40 40 40", "m0 0 c10 0 20 10 20 20 s10 20 20 20"),
        ("M0 0 Q10 20 20 0 T40 0", "m0 0 q10 20 20 0 t20 0"),
        ("M5 5 A10 20 30 1 0 25 15", "m5 5 a10 20 30 1 0 20 10"),
        ("M1 1 L2 2 L2 1 Z L5 5", "m1 1 l1 1 l0 -1 z l4 4"),
    ],
)
def test_relative_commands_mean_the_same_as_absolute_ones(absolute, relative):
    for a, b in zip(path_lines(absolute), path_lines(relative), strict=True):
        assert np.allclose(a, b, atol=1e-9)


def test_numbers_may_run_together_as_the_grammar_allows():
    """SVG 1.1, section 8.3.9: “M100-200” and “M 0.6.5” need no separators; a move goes on as lines."""
    assert one("M100-200L.5.5").tolist() == [[100, -200], [0.5, 0.5]]
    assert one("M0,0 10,0 10,10").tolist() == [[0, 0], [10, 0], [10, 10]]
    assert one("M1e1 2E-1 l1 1").tolist() == [[10, 0.2], [11, 1.2]]


def test_arcs_lie_on_their_ellipse():
    """Appendix F.6: every point of the arc keeps the ellipse's equation, and the flags choose which of the four."""
    cx, cy, rx, ry = 3.0, -2.0, 5.0, 2.0
    start, end = (cx + rx, cy), (cx, cy + ry)
    lengths = {}
    for large in (0, 1):
        for sweep in (0, 1):
            line = one(f"M{start[0]} {start[1]} A{rx} {ry} 0 {large} {sweep} {end[0]} {end[1]}")
            assert line[-1] == pytest.approx(end)
            lengths[large, sweep] = float(np.linalg.norm(np.diff(line, axis=0), axis=1).sum())
            if (large, sweep) in ((0, 1), (1, 0)):  # the two that share this centre
                value = ((line[:, 0] - cx) / rx) ** 2 + ((line[:, 1] - cy) / ry) ** 2
                assert np.allclose(value, 1, atol=1e-9)
    assert lengths[1, 0] == pytest.approx(lengths[1, 1], rel=1e-3) and lengths[1, 0] > 2 * lengths[0, 1]
    small = one("M0 0 A1 1 0 0 1 10 0")  # radii too small are scaled up (F.6.6)
    assert np.linalg.norm(small - [5, 0], axis=1) == pytest.approx(5.0)


def test_a_circle_drawn_by_beziers_is_round_to_a_thousandth():
    """The usual four-curve circle (k = 0.5523): at most 0.03 % off, and read as it is."""
    k = 0.5522847498
    d = f"M1 0 C1 {k} {k} 1 0 1 S-1 {k} -1 0 S{-k} -1 0 -1 S1 {-k} 1 0 Z"
    assert np.abs(np.linalg.norm(one(d), axis=1) - 1).max() < 3e-4


def test_transforms_nest_and_definitions_are_not_drawn():
    svg = b"""<svg xmlns="http://www.w3.org/2000/svg"><defs><path id="ghost" d="M0 0 L9 9"/></defs>
      <g transform="translate(100,0) rotate(90)"><polyline id="leg" points="0,0 50,0" transform="scale(2)"/></g></svg>"""
    c = read_character("leg.svg", svg)
    assert [p.name for p in c.parts] == ["leg"] and c.parts[0].role == "line"
    assert np.ptp(c.points[:, 1]) == pytest.approx(0.1) and np.ptp(c.points[:, 0]) == pytest.approx(0, abs=1e-12)
    turned = read("x.svg", b'<svg><line x1="0" y1="0" x2="10" y2="0" transform="rotate(90 5 0)"/></svg>')
    assert np.ptp(turned.points[:, 1]) == pytest.approx(0.01)
    matrix = read("x.svg", b'<svg><line x1="0" y1="0" x2="10" y2="0" transform="matrix(0 2 -2 0 0 0)"/></svg>')
    assert np.ptp(matrix.points[:, 1]) == pytest.approx(0.02)


@pytest.mark.parametrize(
    "data,words",
    [
        (b"<svg><path d='10 10'/></svg>", "without a command"), (b"<svg><path d='M0 0 C1 1'/></svg>", "ends too early"),
        (b"<svg", "no readable SVG"), (b"<html/>", "no SVG drawing"), (b"<svg><rect/></svg>", "no lines"),
        (b"<!DOCTYPE svg [<!ENTITY a 'b'>]><svg/>", "entities"),
    ],
)  # fmt: skip
def test_broken_drawings_are_refused_in_words(data, words):
    with pytest.raises(BadFile, match=words):
        read("bad.svg", data)


@given(st.text(alphabet="MmLlHhVvCcSsQqTtAaZz0123456789.-, e", max_size=60))
@settings(max_examples=150, deadline=None)
def test_any_path_data_is_read_or_refused(d):
    try:
        for line in path_lines(d):
            assert line.shape[1] == 2
    except (ValueError, IndexError, OverflowError):
        pass  # `read` turns these into one clear refusal
    try:
        read("any.svg", f"<svg><path d='{d}'/></svg>".encode())
    except VonkelError as refused:
        assert refused.what and refused.todo


def test_pictures_tell_kind_and_size_and_refuse_what_they_are_not():
    import io
    import zlib

    from PIL import Image

    for kind in ("PNG", "JPEG"):
        out = io.BytesIO()
        Image.new("RGB", (37, 21)).save(out, kind)
        assert picture_kind(out.getvalue()) == kind.lower() and picture_size(out.getvalue(), "x") == (37, 21)
        with pytest.raises(BadFile):
            picture_size(out.getvalue()[:12], "x")
    gif = b"GIF89a" + bytes(40)
    with pytest.raises(BadFile, match="PNG or JPEG"):
        picture_size(gif, "x.gif")
    head = b"IHDR" + (99_999).to_bytes(4, "big") * 2 + b"\x08\x02\0\0\0"
    huge = b"\x89PNG\r\n\x1a\n" + b"\0\0\0\r" + head + zlib.crc32(head).to_bytes(4, "big") + b"\0\0\0\0IDAT"
    with pytest.raises(TooLarge, match="99999"):
        picture_size(huge, "x.png")


def test_a_texture_in_a_glb_comes_in_and_goes_out_again():
    import io

    from PIL import Image

    out = io.BytesIO()
    Image.new("RGB", (8, 8), (200, 90, 40)).save(out, "PNG")
    w = Writer()
    points = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], np.float32)
    attributes = {
        "POSITION": w.add(points, "VEC3", 34962, bounds=True),
        "TEXCOORD_0": w.add(points[:, :2].copy(), "VEC2", 34962),
    }
    tree = {
        "asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": [0]}], "nodes": [{"mesh": 0, "rotation": [0, 0, math.sqrt(0.5), math.sqrt(0.5)]}],
        "meshes": [{"primitives": [{"attributes": attributes, "indices": w.add(np.arange(3, dtype=np.uint16), "SCALAR", 34963), "material": 0}]}],
        "materials": [{"pbrMetallicRoughness": {"baseColorTexture": {"index": 0}}}], "textures": [{"source": 0}],
        "images": [{"bufferView": w.view(out.getvalue()), "mimeType": "image/png"}],
    }  # fmt: skip
    c = read_character("t.glb", w.glb(tree))
    assert c.arrays["texture"].tobytes() == out.getvalue()
    assert c.parts[0].carried is not None and c.points[1] == pytest.approx([0, 1, 0], abs=1e-6)
    again = written(c, ".glb")
    assert out.getvalue() in again and b"baseColorTexture" in again
