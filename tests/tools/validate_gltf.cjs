// Prints the Khronos validator's report on a .glb as JSON.
const fs = require("fs");
const validator = require("gltf-validator");
validator.validateBytes(new Uint8Array(fs.readFileSync(process.argv[2])), { maxIssues: 20 })
  .then((report) => console.log(JSON.stringify(report.issues)));
