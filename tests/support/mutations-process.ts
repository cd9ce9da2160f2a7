import "./show-reader-faults";
import { mutate, type SubjectName } from "./mutations";

/** Damages a subject in a process of its own, and prints what came of it as JSON. */
const [, , name, from, to] = process.argv;
console.log(JSON.stringify(mutate(name as SubjectName, Number(from), Number(to))));
