/** The boundaries between the rooms of the house; docs/architecture.md says why. */
const room = (name, path, ...allowed) => ({
  name,
  severity: "error",
  from: { path: `^${path}/`, pathNot: "\\.test\\.tsx?$" },
  to: { path: "^(core|io|server|worker|cli|app|ui|demo|scripts|tests|bench)/", pathNot: [`^${path}/`, ...allowed] },
});

module.exports = {
  forbidden: [
    room("bytes-stand-alone", "core/bytes"),
    // The media of one backup are known by the first block of each; the end of a split archive says how many parts it has; what is
    // compressed as a whole is unpacked as archives are.
    room(
      "containers",
      "core/containers",
      "^core/bytes/",
      "^core/filesystems/tape/(block|layout|medium-end)\\.ts$",
      "^core/archives/(unpack|archive|tar-headers|tar-parts)\\.ts$",
      "^core/formats/zip/members\\.ts$",
      // What is compressed is opened where an archive or a disk is in it.
      "^core/filesystems/(recognise|names)\\.ts$",
      "^core/partitions/read-partitions\\.ts$",
    ),
    room("partitions", "core/partitions", "^core/bytes/"),
    room("formats", "core/formats", "^core/bytes/"),
    // The registry lists archives, which are stores too.
    room("filesystems", "core/filesystems", "^core/bytes/", "^core/archives/kind\\.ts$"),
    room("archives", "core/archives", "^core/bytes/", "^core/formats/", "^core/filesystems/file-(record|system-kind)\\.ts$"),
    room("copies", "core/copies", "^core/bytes/", "^core/filesystems/", "^core/formats/"),
    room(
      "places",
      "core/places",
      "^core/bytes/",
      "^core/formats/",
      "^core/filesystems/",
      "^core/copies/",
      "^core/records/(records|row)\\.ts$",
    ),
    room("restore-names", "core/restore", "^core/bytes/", "^core/formats/", "^core/filesystems/file-record\\.ts$"),
    room("sweep", "core/sweep", "^core/bytes/", "^core/formats/", "^core/filesystems/", "^core/copies/"),
    room("repair", "core/repair", "^core/bytes/", "^core/formats/"),
    room("volumes", "core/volumes", "^core/bytes/", "^core/containers/", "^core/partitions/", "^core/filesystems/", "^core/formats/"),
    room("plan", "core/plan", "^core/bytes/", "^core/copies/", "^core/formats/", "^core/places/"),
    room("core-knows-no-other-room", "core"),
    room("io", "io", "^core/"),
    room("server", "server", "^core/", "^io/"),
    room("worker", "worker", "^core/", "^io/", "^server/"),
    room("cli", "cli", "^core/", "^io/"),
    room("ui-knows-contracts-only", "ui", "^server/[a-z]+/contract\\.ts$"),
    room("app-is-thin", "app", "^server/", "^ui/"),
    // zlib's crc32 computes and reads nothing: it is twelve times as quick as a loop of one's own.
    {
      name: "core-has-no-io",
      severity: "error",
      from: { path: "^core/", pathNot: "\\.test\\.ts$" },
      to: { dependencyTypes: ["core"], pathNot: "^(node:)?zlib$" },
    },
    {
      name: "core-has-no-interface-or-database",
      severity: "error",
      from: { path: "^core/" },
      to: { path: "node_modules/(react|next|@mui|pg|drizzle-orm)/" },
    },
    {
      name: "contracts-are-light",
      severity: "error",
      from: { path: "/contract\\.ts$" },
      to: { path: "node_modules/(pg|drizzle-orm)/|^server/database/" },
    },
    { name: "no-circles", severity: "error", from: {}, to: { circular: true, viaOnly: { dependencyTypesNot: ["type-only"] } } },
    { name: "not-to-unresolvable", severity: "error", from: {}, to: { couldNotResolve: true } },
  ],
  options: {
    doNotFollow: { path: "node_modules" },
    tsConfig: { fileName: "tsconfig.json" },
    tsPreCompilationDeps: true,
    enhancedResolveOptions: {
      exportsFields: ["exports"],
      conditionNames: ["import", "require", "node", "default", "types"],
      extensions: [".ts", ".tsx", ".js", ".json", ".css"],
    },
  },
};
