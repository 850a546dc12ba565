// Holds the description of the interface against the OpenAPI specification with a validator that is not ours, and follows
// every reference in it: `npm run validate-api -- FILE`.
import { readFile } from "node:fs/promises";
import { Validator } from "@seriousme/openapi-schema-validator";

const file = process.argv[2];
if (!file) throw new Error("say which file is to be validated");
const description = JSON.parse(await readFile(file, "utf8"));

const validator = new Validator();
const { valid, errors } = await validator.validate(structuredClone(description));
const faults = valid ? [] : [JSON.stringify(errors, null, 2)];
try {
  validator.resolveRefs();
} catch (error) {
  faults.push(String(error));
}

const ids = new Set();
for (const [path, item] of Object.entries(description.paths)) {
  for (const [method, operation] of Object.entries(item)) {
    if (!operation.responses) continue;
    const id = operation.operationId;
    if (!id || ids.has(id)) faults.push(`${method} ${path}: the operationId ${id} is missing or used twice`);
    ids.add(id);
  }
}

if (faults.length > 0) {
  for (const fault of faults) process.stderr.write(`${fault}\n`);
  process.exit(1);
}
process.stdout.write(`${ids.size} operations of OpenAPI ${validator.version} are valid.\n`);
