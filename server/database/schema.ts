/** All tables. */
export * from "./schema/items";
export * from "./schema/jobs";
export * from "./schema/passes";
export * from "./schema/restoring";
export * from "./schema/shares";
export * from "./schema/stores";
