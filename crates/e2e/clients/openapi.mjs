// Validates an OpenAPI document by its path; prints what is wrong.
import { readFileSync } from "node:fs";
import { createRequire } from "node:module";

const require = createRequire(new URL("../../../console/package.json", import.meta.url));
const { Validator } = await import(require.resolve("@seriousme/openapi-schema-validator"));
const told = await new Validator().validate(JSON.parse(readFileSync(process.argv[2], "utf8")));
if (!told.valid) {
  console.error(JSON.stringify(told.errors, null, 1));
  process.exit(1);
}
