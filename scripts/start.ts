import { complain, launch } from "./launch";

launch({ demo: false, fresh: false }).catch((error: unknown) => {
  complain(error);
  process.exit(1);
});
