"""Speech: sounds become visemes at their time, to a frame; timed files; the pad; a face that jumps."""

import numpy as np
import pytest

from tests.core.test_faces import do, made
from vonkel.core.errors import BadFile, BadParameters, StepRefused
from vonkel.core.expression.units import VISEMES
from vonkel.core.motion.clips import frames_of
from vonkel.core.motion.keyed import keyable
from vonkel.core.motion.speech import OF_SOUND, poses_of, timed, typed, viseme_of

WORDS = [(0.1, 0.26, "b"), (0.26, 0.5, "A:"), (0.5, 0.62, "s"), (0.9, 1.06, "m"), (1.06, 1.3, "U")]


def test_sounds_go_to_the_visemes_of_the_table():
    """Numbers and sounds of ISO/IEC 14496-2's table of visemes (from memory)."""
    for v in VISEMES:
        for sound in v.sounds.split():
            assert viseme_of(sound) == v.number
    for letters, number in (("AH0", 10), ("IY1", 12), ("OW2", 13), ("TH", 3), ("NG", 5), ("sil", 0), ("14", 14)):
        assert viseme_of(letters) == number
    with pytest.raises(BadParameters):
        viseme_of("xyz")
    assert set(OF_SOUND.values()) == set(range(15))


def shown(c, clip, at):
    """How near each viseme's pose is to the face at a moment, by what it sets: 1 is all of it."""
    k = next(x for x in c.clips if x.name == clip)
    row = frames_of(c, clip)[round(at * k.rate)]
    now = {(t.thing, t.channel): float(v) for t, v in zip(k.tracks, row, strict=True)}
    out = {}
    for n, pose in poses_of(c).items():
        wanted = keyable(c, pose)
        gap = sum(abs(now.get(key, 0.0) - wanted.get(key, 0.0)) for key in {*now, *wanted})
        out[n] = gap
    return min(out, key=out.get)


@pytest.mark.parametrize("name", ["otter", "newt"])
@pytest.mark.parametrize("rate", [24, 30, 60])
@pytest.mark.parametrize("held", [False, True])
def test_every_sound_is_shown_from_its_first_frame_to_its_last(name, rate, held):
    """At a frame more than one from where a sound begins or ends, its own viseme is what is shown."""
    c = do(made(name), "motion.rate", rate=rate)
    sounds = [{"start": a, "end": b, "sound": s} for a, b, s in WORDS]
    c = do(c, "motion.speak", sounds=sounds, held=held)
    assert c.clips[-1].rate == rate
    for a, b, s in WORDS:
        for frame in range(int(np.ceil(a * rate)) + 1, int(np.floor(b * rate))):
            assert shown(c, "speech", frame / rate) == viseme_of(s)
    assert shown(c, "speech", 0.76) == 0  # nothing is said


def test_a_timed_file_is_read_in_several_dresses():
    plain = timed("a.csv", b"start,end,sound\n0.1,0.2,AA\n0.25;0.3;M\n")
    assert [(s.start, s.end, s.viseme) for s in plain] == [(0.1, 0.2, 10), (0.25, 0.3, 1)]
    assert [s.viseme for s in timed("a.txt", b"0.0 aa\n0.2 m\n0.3 sil\n")] == [10, 1, 0]
    assert [s.end for s in timed("a.txt", b"0.0 aa\n0.2 m\n")] == pytest.approx([0.2, 0.3])
    assert [s.viseme for s in timed("a.json", b'[{"start": 0, "end": 0.2, "sound": "f"}, [0.3, 0.4, "U"]]')] == [2, 14]
    for broken in (b"", b"start,end,sound\n", b"0.1,x,aa\n", b"0.3,0.1,aa\n"):
        with pytest.raises(BadFile):
            timed("b.csv", broken)
    with pytest.raises(BadFile):
        timed("b.json", b"{")


def test_typed_sounds_stand_in_a_row():
    found = typed("h eh l ow , m", 1.0, 0.1)
    assert [s.viseme for s in found] == [0, 11, 8, 13, 0, 1]
    assert found[-1].end == pytest.approx(1.6)


def test_the_pad_is_keyed_instead():
    c = do(
        made("otter"),
        "motion.speak",
        by="pad",
        sounds=[{"start": 0, "end": 0.3, "sound": "U"}, {"start": 0.3, "end": 0.6, "sound": "A:"}],
    )
    assert {str(t.thing) for t in c.clips[-1].tracks} == {"board:mouth pad"}
    values = frames_of(c, "speech")
    assert values[4, 0] < -0.9 and values[11, 1] > 0.9


def test_without_a_face_nothing_can_be_said():
    from tests.core.test_walking import rigged

    with pytest.raises(StepRefused):
        do(rigged("larva"), "motion.speak", sounds=[{"start": 0, "end": 0.3, "sound": "U"}])
    with pytest.raises(BadParameters):
        do(made("otter"), "motion.speak", sounds=[{"start": 0.3, "end": 0.1, "sound": "U"}])
