"""Every tolerance and limit of the core, in one place.  Metres and radians."""

SAME_PLACE = 1e-9  # two joint places closer than this are one place
SAME_FRAME = 1e-12  # entries of two frames that differ by less are the same frame
PAIR = 1e-5  # left and right partners may differ by this share of the body height
IN_A_POSE = 0.05  # partners farther from each other's mirrored place than this share of the size stand in a pose
WELD = 1e-4  # border points of one part nearer than this share of the size lie on one another
PLANE = 1e-6  # a point nearer to the body plane than this share of the height lies on it
STRAIGHT = 0.0175  # 1 degree: an IK chain straighter than this has no bend to follow
GIMBAL = 1.3963  # 80 degrees: a middle axis turned farther than this is near gimbal lock
WEIGHT_SUM = 1e-4  # how far a point's weights may sum from one
WEIGHT_FLOOR = 1e-3  # weights below this are dropped
UNIT_QUATERNION = 1e-6
TINY = 1e-12  # guards divisions

FARTHEST = 1e6  # metres: nothing is put or read farther off than this
MAX_POINTS = 2_000_000  # a mesh larger than this is refused
MAX_FACES = 4_000_000
MAX_CORNERS = 16_000_000
MAX_FILE_BYTES = 256 * 1024 * 1024
MAX_READ_SECONDS = 60.0  # reading one file
MAX_READ_BYTES = 3 * 1024**3  # memory that one file's arrays may take while it is read
MAX_PICTURE_BYTES = 32 * 1024 * 1024
MAX_PICTURE_SIDE = 16_384  # pixels
MAX_CLIP_VALUES = 50_000_000  # frames times tracks of one motion
MAX_JOINTS = 2_000
MAX_PARTS = 500
