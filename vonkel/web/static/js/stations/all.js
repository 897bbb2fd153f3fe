// Every station there is.
import "./model.js";
import "./joints.js";
import "./limbs.js";
import "./skin.js";
import "./shapes.js";
import "./face.js";
import "./motion.js";
import "./trials.js";
import "./handover.js";
