// One sheet a question: the answer in words on top, the evidence below. A sheet says its place in the list.
export { runs } from "./sheets/runs.js";
export { settings } from "./sheets/settings.js";
export { learning } from "./sheets/learning.js";
export { overfitting } from "./sheets/overfitting.js";
export { layers } from "./sheets/layers.js";
export { optimiser } from "./sheets/optimiser.js";
export { generated } from "./sheets/generated.js";
export { mistakes } from "./sheets/mistakes.js";
export { attributions } from "./sheets/attributions.js";
export { compare } from "./sheets/compare.js";
export { study } from "./sheets/study.js";
export { network } from "./sheets/network.js";
export { models } from "./sheets/models.js";
export { machine } from "./sheets/machine.js";
export { record } from "./sheets/record.js";
