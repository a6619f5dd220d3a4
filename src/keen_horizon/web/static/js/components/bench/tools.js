// @ts-check
// All pointer tools, by what `aim` names them.
import { areaTool } from "./areas.js";
import { levelTool } from "./arming.js";
import { stillTool } from "./believing.js";
import { deadTool } from "./dead.js";
import { flatTool } from "./flat.js";
import { lightTool } from "./light.js";
import { pinTool } from "./pinned.js";
import { scopeTool } from "./scoping.js";
import { edgeTool } from "./straightedges.js";
import { cornersTool, gridTool, ringTool, worldLineTool } from "./turning.js";

/** @type {Record<string, import("./tool.js").Tool>} */
export const TOOLS = {
  pin: pinTool,
  level: levelTool,
  grid: gridTool,
  "world line": worldLineTool,
  corners: cornersTool,
  flat: flatTool,
  still: stillTool,
  area: areaTool,
  edge: edgeTool,
  ring: ringTool,
  light: lightTool,
  dead: deadTool,
  scope: scopeTool,
};
