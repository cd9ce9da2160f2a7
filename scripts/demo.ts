import { complain, launch } from "./launch";

const known = ["--fresh"];
const wrong = process.argv.slice(2).filter((argument) => !known.includes(argument));
if (wrong.length > 0) {
  console.error(`Unknown: ${wrong.join(" ")}. Possible: npm run demo -- --fresh`);
  process.exit(2);
}
// Links of the demo lead to this computer alone.
process.env.COMPASS_SHARE_HOST ??= "127.0.0.1";
launch({ demo: true, fresh: process.argv.includes("--fresh") }).catch((error: unknown) => {
  complain(error);
  process.exit(1);
});
