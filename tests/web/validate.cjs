// Runs the Khronos glTF validator on a file and prints its report as JSON.
const { readFileSync } = require("node:fs");
const { validateBytes } = require("gltf-validator");

validateBytes(new Uint8Array(readFileSync(process.argv[2])), { format: "glb", writeTimestamp: false, maxIssues: 0 })
  .then((report) => console.log(JSON.stringify(report)))
  .catch((error) => {
    console.error(String(error));
    process.exit(1);
  });
