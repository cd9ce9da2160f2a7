import { accessSync, constants } from "node:fs";

/** Whether this process may read a file, folder or device. */
export function mayRead(path: string): boolean {
  try {
    accessSync(path, constants.R_OK);
    return true;
  } catch {
    return false;
  }
}
