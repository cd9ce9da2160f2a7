import { readSettings } from "../settings";
import { doorOf } from "./address";
import { makeDoor } from "./door";

const settings = readSettings();
const door = doorOf(settings);
const { COMPASS_SHARE_CERTIFICATE: certificate, COMPASS_SHARE_KEY: key, COMPASS_HOST: host, COMPASS_PORT: port } = settings;
const secret = process.env.COMPASS_DOOR ?? "";
if (!door || secret === "") throw new Error("Sharing is not switched on.");
const server = makeDoor({ host, port, secret, encrypted: certificate && key ? { certificate, key } : null });
server.on("error", (error) => {
  console.error(`What is shared cannot be reached at ${door.host}, port ${door.port}: ${error.message}`);
  process.exit(1);
});
server.listen(door.port, door.host);
process.on("SIGTERM", () => process.exit(0));
// Who started this process has died: nobody could end it any more.
process.on("disconnect", () => process.exit(0));
