/** Types of columns, and the ways they are written. */

import { bigint, customType, timestamp } from "drizzle-orm/pg-core";

export const bytea = customType<{ data: Buffer }>({ dataType: () => "bytea" });
export const uuid = customType<{ data: string }>({ dataType: () => "uuid" });
export const tstzrange = customType<{ data: string }>({ dataType: () => "tstzrange" });
export const int8range = customType<{ data: string }>({ dataType: () => "int8range" });
/** Text that is distinguished and ordered by its bytes, which for UTF-8 is the order of code points, and quick. */
export const plainText = customType<{ data: string }>({ dataType: () => 'text collate "C"' });
export const bytes = (name: string) => bigint(name, { mode: "number" });
export const time = (name: string) => timestamp(name, { withTimezone: true, mode: "date" });
