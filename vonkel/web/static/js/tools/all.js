// Every tool there is.
import "./mesh.js";
import "./plan.js";
import "./draw.js";
import "./kit.js";
import "./points.js";
import "./step.js";
import "./brush.js";
import "./choose.js";
import "./zone.js";
import "./sculpt.js";
import "./mask.js";
import "./place.js";
import "./marks.js";
