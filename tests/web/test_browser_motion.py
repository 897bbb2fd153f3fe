"""The Motion station, with the mouse: poses blocked, smoothed and shifted; a file's motion matched and played; legs that walk."""

import numpy as np
import pytest

from tests.web.test_browser_trials import points
from vonkel.core.motion.clips import frames_of
from vonkel.core.rig import compile_rig
from vonkel.core.rig.motion import clip_motion
from vonkel.demo import add_member
from vonkel.workshop import Workshop


@pytest.fixture(scope="module")
def newt(server):
    shop = Workshop(server.store)
    number = add_member(shop, "newt.obj")
    for step, params in (("joints.lay_plan", {"plan": "quadruped"}), ("limbs.outfit", {})):
        shop.apply(number, step, params)
    return shop, number


def opened(page, number):
    page.open(f"/c/{number}/motion")
    page.wait("vonkel.state && vonkel.plate.mesh && vonkel.strip.shown && vonkel.live.idle")
    page.laid_out()


def keys(page):
    return np.array(page.js("vonkel.clipAtHand().keys"))


def middle(page, selector, nth=0):
    box = page.page.locator(selector).nth(nth).bounding_box()
    return box["x"] + box["width"] / 2, box["y"] + box["height"] / 2


def settled(page):
    page.answered()
    page.wait("vonkel.ui.keyDrag === null && vonkel.live.idle")


def test_three_poses_are_blocked_smoothed_and_the_tail_follows_later(page, newt):
    shop, number = newt
    opened(page, number)
    chest = page.control_at("free", "chest turn")
    for i, frame in enumerate((0, 6, 20)):
        if i:
            page.js(f"vonkel.clipTo({frame})")
            page.wait(f"vonkel.clipFrame === {frame} && vonkel.live.idle")
        for control in ("chest turn", "tail 2", "tail 3"):
            page.js(f"vonkel.selectControl('{control}')")
            field = page.page.get_by_label(f"{control} turn z", exact=True)
            field.fill(str((20, -25, 10)[i]))
            page.answered()
        page.click("Set the pose here" if i else "Begin with this pose")
        page.wait(f"vonkel.clipAtHand() && new Set(vonkel.clipAtHand().keys.map(k => k[1])).size === {i + 1}")
        settled(page)
    assert chest is not None
    assert page.page.locator("[data-pose-at]").count() == 3
    # blocking: held, evenly apart
    page.page.get_by_label("Frames from pose to pose").fill("8")
    page.page.get_by_label("held").check()
    page.click("Stand them apart")
    page.wait(
        "JSON.stringify([...new Set(vonkel.clipAtHand().keys.map(k => k[1]))].sort((a, b) => a - b)) === '[0,8,16]'"
    )
    settled(page)
    assert set(keys(page)[:, 3]) == {0}
    # the middle pose moved in time as a whole, by its post
    of = page.js("document.querySelector('.threads').clientWidth - 10") / page.js("vonkel.clipAtHand().frames + 1")
    x, y = middle(page, "[data-pose-at='8']")
    page.drag((x, y), (3 * of, 0))
    page.wait("vonkel.clipAtHand().keys.some(k => k[1] === 11)")
    settled(page)
    assert not (keys(page)[:, 1] == 8).any()
    # all of them smooth, by a box drawn over the threads
    box = page.page.locator(".threads").bounding_box()
    page.drag((box["x"] + box["width"] - 4, box["y"] + box["height"] - 2), (-box["width"] + 6, -box["height"] + 4))
    assert page.js("vonkel.ui.keysChosen.size") == len(keys(page))
    page.click("smooth")
    page.wait("vonkel.clipAtHand().keys.every(k => k[3] === 2)")
    settled(page)
    before = keys(page)
    # the tail later
    page.js("vonkel.ui.keysChosen = new Set(); vonkel.selectControl('tail 2')")
    page.page.get_by_text("In this motion", exact=True).click()
    page.page.get_by_label("Frames that it comes later").fill("2")
    page.page.get_by_label("Frames more for each next of its kit").fill("1")
    page.click("Let it follow later")
    page.wait(f"JSON.stringify(vonkel.clipAtHand().keys) !== {str(before.tolist())!r} && vonkel.live.idle")
    settled(page)
    tracks = page.js("vonkel.clipAtHand().tracks.map(t => t.thing)")
    at = {t: sorted({float(k[1]) for k in keys(page) if k[0] == i}) for i, t in enumerate(tracks)}
    assert at["control:chest turn"] == [0, 11, 16]
    assert at["control:tail 2"] == [2, 13, 18]
    assert at["control:tail 3"] == [3, 14, 19]
    c = shop.character(number)
    assert np.abs(np.diff(frames_of(c, c.clips[0].name), axis=0)).max() < 0.2  # smooth now: it no longer jumps
    page.page.keyboard.press("Escape")
    assert not page.troubles


def test_turns_and_moves_share_a_sheet_each_by_its_own_scale(page, newt):
    shop, number = newt
    opened(page, number)
    tracks = [("chest turn", "turn z"), ("hips move", "move y")]
    shop.apply(number, "keys.pose", {"clip": "both", "frame": 0, "values": {c: {k: 0.1} for c, k in tracks}})
    shop.apply(number, "keys.pose", {"clip": "both", "frame": 12, "values": {c: {k: 0.4} for c, k in tracks}})
    opened(page, number)
    page.js("vonkel.clip = 'both'")
    page.click("Curves")
    page.wait("document.querySelectorAll('.key-curve').length === 1")
    page.page.locator(".curve-kinds button", has_text="all").click()
    page.wait("document.querySelectorAll('.key-curve').length === 2")
    at = {n: middle(page, f"[data-curve-key='{i}@12']")[1] for i, (n, _) in enumerate(clip_tracks(page))}
    assert abs(at["chest turn"] - at["hips move"]) < 1.5  # each is as high as its own scale goes
    key = next(i for i, (n, _) in enumerate(clip_tracks(page)) if n == "hips move")
    x, y = middle(page, f"[data-curve-key='{key}@12']")
    page.drag((x, y), (0, 30))
    page.wait(f"vonkel.clipAtHand().keys.find(k => k[0] === {key} && k[1] === 12)[2] < 0.38")
    settled(page)
    turned = next(i for i, (n, _) in enumerate(clip_tracks(page)) if n == "chest turn")
    assert [k for k in keys(page).tolist() if k[0] == turned and k[1] == 12][0][2] == pytest.approx(0.4)
    shop.apply(number, "motion.remove", {"clip": "both"})
    assert not page.troubles


def clip_tracks(page):
    return [(t["thing"].removeprefix("control:"), t["channel"]) for t in page.js("vonkel.clipAtHand().tracks")]


def test_curves_are_dragged_and_bent_and_a_pose_is_recorded_as_one_poses(page, newt):
    shop, number = newt
    opened(page, number)
    page.js("vonkel.selectControl('chest turn')")
    page.click("Curves")
    track = page.js(
        "vonkel.clipAtHand().tracks.findIndex(t => t.thing === 'control:chest turn' && t.channel === 'turn z')"
    )
    x, y = middle(page, f"[data-curve-key='{track}@11']")
    was = keys(page)
    page.drag((x, y), (0, -20))
    page.wait(f"JSON.stringify(vonkel.clipAtHand().keys) !== JSON.stringify({was.tolist()})")
    settled(page)
    now = keys(page)
    pick = (now[:, 0] == track) & (now[:, 1] == 11)
    assert now[pick][0, 2] > was[pick][0, 2] + 0.05
    assert np.allclose(now[~pick], was[~pick])
    page.click("own slopes")
    page.wait(f"vonkel.clipAtHand().keys.some(k => k[0] === {track} && k[3] === 3)")
    settled(page)
    x, y = middle(page, "[data-slope=out]")
    page.drag((x, y), (0, -15))
    page.wait(f"vonkel.clipAtHand().keys.find(k => k[0] === {track} && k[1] === 11)[5] > 0.005")
    settled(page)
    # as one poses: only what changed gets a key
    page.click("As I pose")
    page.js("vonkel.clipTo(5)")
    page.wait("vonkel.clipFrame === 5 && vonkel.live.idle")
    page.js("vonkel.selectControl('head turn')")
    count = len(keys(page))
    page.page.get_by_label("head turn turn y", exact=True).fill("25")
    page.page.get_by_label("head turn turn y", exact=True).press("Enter")
    page.wait("vonkel.clipAtHand().tracks.some(t => t.thing === 'control:head turn')")
    settled(page)
    assert len(keys(page)) == count + 3  # there, and at rest in the poses before and after
    page.click("As I pose")
    # played, and undone to the byte
    page.page.keyboard.press("Escape")
    page.click("Play")
    page.wait("vonkel.clipPlaying && vonkel.clipFrame > 8")
    page.click("Stop")
    page.page.locator("#undo").click()
    page.wait("!vonkel.clipAtHand().tracks.some(t => t.thing === 'control:head turn')")
    assert not page.troubles


BVH = """HIERARCHY
ROOT Base
{
 OFFSET 0 0 0
 CHANNELS 6 Xposition Yposition Zposition Yrotation Xrotation Zrotation
 JOINT Spine { OFFSET 0 20 0 CHANNELS 3 Yrotation Xrotation Zrotation
  JOINT Ribs { OFFSET 0 20 0 CHANNELS 3 Yrotation Xrotation Zrotation
   JOINT Neck { OFFSET 0 20 0 CHANNELS 3 Yrotation Xrotation Zrotation
    JOINT Head { OFFSET 0 10 0 CHANNELS 3 Yrotation Xrotation Zrotation End Site { OFFSET 0 15 0 } } }
   JOINT LUpper { OFFSET 15 15 0 CHANNELS 3 Yrotation Xrotation Zrotation
    JOINT LLower { OFFSET 25 0 0 CHANNELS 3 Yrotation Xrotation Zrotation
     JOINT LEnd { OFFSET 25 0 0 CHANNELS 3 Yrotation Xrotation Zrotation End Site { OFFSET 8 0 0 } } } }
   JOINT RUpper { OFFSET -15 15 0 CHANNELS 3 Yrotation Xrotation Zrotation
    JOINT RLower { OFFSET -25 0 0 CHANNELS 3 Yrotation Xrotation Zrotation
     JOINT REnd { OFFSET -25 0 0 CHANNELS 3 Yrotation Xrotation Zrotation End Site { OFFSET -8 0 0 } } } } } }
 JOINT LLeg { OFFSET 10 0 0 CHANNELS 3 Yrotation Xrotation Zrotation
  JOINT LKnee { OFFSET 0 -40 0 CHANNELS 3 Yrotation Xrotation Zrotation
   JOINT LFoot { OFFSET 0 -40 0 CHANNELS 3 Yrotation Xrotation Zrotation End Site { OFFSET 0 -5 15 } } } }
 JOINT RLeg { OFFSET -10 0 0 CHANNELS 3 Yrotation Xrotation Zrotation
  JOINT RKnee { OFFSET 0 -40 0 CHANNELS 3 Yrotation Xrotation Zrotation
   JOINT RFoot { OFFSET 0 -40 0 CHANNELS 3 Yrotation Xrotation Zrotation End Site { OFFSET 0 -5 15 } } } }
}
MOTION
Frames: 40
Frame Time: 0.0333333
"""
JOINTS = ["Base", "Spine", "Ribs", "Neck", "Head", "LUpper", "LLower", "LEnd", "RUpper", "RLower", "REnd"]


def waving():
    """Its left arm is raised and its elbow bent, over 40 frames; the rest stands."""
    rows = []
    for f in range(40):
        s = f / 39
        row = [0, 85, 0, 0, 0, 0] + [0] * 3 * 16
        row[6 + 3 * 4 + 2] = 60 * s  # LUpper, about z
        row[6 + 3 * 5 + 2] = 50 * s
        rows.append(" ".join(map(str, row)))
    return (BVH + "\n".join(rows) + "\n").replace("\n", "\r\n")


def test_a_file_is_matched_two_wrong_ones_put_right_and_played(page, server, tmp_path):
    shop = Workshop(server.store)
    number = add_member(shop, "otter.obj")
    for step, params in (("joints.lay_plan", {"plan": "biped"}), ("limbs.outfit", {})):
        shop.apply(number, step, params)
    path = tmp_path / "waving.bvh"
    path.write_text(waving(), newline="")
    opened(page, number)
    page.click("From a file")
    page.page.get_by_label("Motion file").set_input_files(path)
    page.wait("vonkel.ui.capture?.joints.length === 17")
    told = page.js("vonkel.ui.capture.chosen")
    assert told["upper_arm_L"] == "LUpper" and told["thigh_R"] == "RLeg" and told["hips"] == "Base"
    for joint, source in (("upper_arm_L", "RUpper"), ("forearm_L", "RLower")):  # put wrong, as a file may have it
        page.page.locator(f"[data-match={joint}]").select_option(source)
    page.wait("vonkel.ui.capture.chosen.forearm_L === 'RLower'")
    assert page.page.locator(".match.settled").count() == 2
    for joint, source in (("upper_arm_L", "LUpper"), ("forearm_L", "LLower")):
        page.page.locator(f"[data-match={joint}]").select_option(source)
    page.click("Play it on the rig")
    page.wait("vonkel.state.clips.length === 1 && vonkel.clipPlaying", 60)
    page.click("Stop")
    c = shop.character(number)
    assert c.clips[0].name == "waving" and "slide" in shop.store.ledger(number)[-1].sentence
    motion = clip_motion(compile_rig(c), c, "waving")
    last = len(frames_of(c, "waving")) - 1
    first, now = (motion.pose(f).joints[c.joint_index["hand_L"], :, 3] for f in (0, last))
    still = [motion.pose(f).joints[c.joint_index["hand_R"], :, 3] for f in (0, last)]
    assert now[1] - first[1] > 0.15 * c.height and np.linalg.norm(still[1] - still[0]) < 0.01 * c.height
    arm = [c.joint_index[n] for n in ("upper_arm_L", "forearm_L", "hand_L")]
    a, b, d = motion.pose(last).joints[arm, :, 3]
    bend = np.degrees(np.arccos((b - a) @ (d - b) / np.linalg.norm(b - a) / np.linalg.norm(d - b)))
    assert bend == pytest.approx(50, abs=1.0)
    assert not page.troubles


def test_a_file_that_is_broken_says_where(page, server, tmp_path):
    shop = Workshop(server.store)
    number = add_member(shop, "larva.obj")
    path = tmp_path / "broken.bvh"
    path.write_text(waving().replace("0 85 0", "0 85", 1))
    opened(page, number)
    page.click("From a file")
    page.page.get_by_label("Motion file").set_input_files(path)
    page.page.get_by_text("numbers, and the skeleton has 54 channels").wait_for()
    page.troubles.clear()  # the answer was 422


def test_the_beetle_walks_over_hills_along_a_drawn_way(page, server):
    shop = Workshop(server.store)
    number = add_member(shop, "beetle.obj")
    for step, params in (("joints.lay_plan", {"plan": "many-legged"}), ("limbs.outfit", {}), ("skin.bind", {})):
        shop.apply(number, step, params)
    page.open(f"/c/{number}/motion")
    page.wait("vonkel.state && vonkel.plate.mesh && vonkel.strip.shown")
    page.click("Let it walk")
    box = page.page.locator(".path-pad").bounding_box()
    for x, y in ((0.62, 0.6), (0.4, 0.4)):
        page.page.mouse.click(box["x"] + box["width"] * x, box["y"] + box["height"] * y)
    page.wait("vonkel.ui.walkPath.length === 3")
    place = page.page.locator('[data-place="2"]').bounding_box()
    page.drag((place["x"] + 4, place["y"] + 4), (20, 0))
    assert page.js("vonkel.ui.walkPath[2][0]") > -0.3
    page.page.get_by_label("Height of the hills in cm").fill("3")
    page.page.get_by_label("Period").or_(page.page.get_by_label("Seconds from a step")).first.fill("0.8")
    assert page.page.locator("select[name=gait]").input_value() == "tripod"
    page.click("Let it go")
    page.wait("vonkel.state.clips.length === 1 && vonkel.clipPlaying && vonkel.clipFrame > 5", 30)
    assert page.js("vonkel.ui.shelf") == "keys"
    page.click("Stop")
    bar = page.page.get_by_label("Frame of the motion")
    last = page.js("vonkel.state.clips[0].frames") - 1
    bar.fill(str(last))
    page.wait(f"vonkel.clipFrame === {last} && vonkel.live.idle")
    assert page.js("Math.hypot(vonkel.values.whole['move x'], vonkel.values.whole['move z'])") > 0.5
    far = points(page)
    page.click("Back to rest")
    page.wait(
        "!Object.keys(vonkel.values).length && vonkel.live.idle && Math.abs(vonkel.plate.points[2] - vonkel.plate.rest[2]) < 1e-3"
    )
    assert np.linalg.norm((far - points(page)).mean(0)) > 0.5
    c = shop.character(number)
    assert c.clips[0].rate == 24 and len(c.arrays["clip/walk/values"]) == last + 1
    page.click("Delete it")
    page.wait("!vonkel.state.clips.length")
    assert not page.troubles
