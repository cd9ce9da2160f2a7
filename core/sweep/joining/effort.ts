/** How long pieces are looked for. All of it is counted, none of it measured by a clock: the same disk gives the same files on any machine. */
export interface Effort {
  /** Bytes that may be read for one find. */
  readonly read: number;
  /** Of what may be read for all finds: at the start, and for each byte that is swept. */
  readonly readFirst: number;
  readonly readEach: number;
  /** Ends of the last piece that are tried: with places that only look right, and with those that a landmark or a list gives. */
  readonly breaksBlind: number;
  readonly breaksPlaced: number;
  /** Pieces beyond the first, where no list gives their places. */
  readonly seams: number;
  /** Ways of going on that are pursued from one break. */
  readonly ways: number;
  /** How far the rest of a file is looked for, in each direction, where something in it marks its place. Bytes. */
  readonly reach: number;
  /** Clusters the next piece may lie away, in each direction, where nothing says its place: as many as these bytes are, within bounds. */
  readonly reachBlind: number;
  readonly leastAway: number;
  readonly mostAway: number;
  /** Looks into the data of other clusters for one picture, and for one of its seams. */
  readonly looks: number;
  readonly looksEach: number;
  /** Bytes of whole pictures that are followed for one, and for one of its seams. */
  readonly followed: number;
  readonly followedEach: number;
  /** Of these, so many for places from which a picture may go on to yet another piece: far away, more of them get far by chance. */
  readonly followedForWays: number;
}

export const USUAL: Effort = {
  read: 2 ** 29,
  readFirst: 2 ** 35,
  readEach: 8,
  breaksBlind: 24,
  breaksPlaced: 512,
  seams: 3,
  ways: 3,
  reach: 1 << 25,
  reachBlind: 24 << 20,
  leastAway: 1024,
  mostAway: 12_288,
  looks: 120_000,
  looksEach: 50_000,
  followed: 48 << 20,
  followedEach: 20 << 20,
  followedForWays: 8 << 20,
};

/** For a longer look: about sixteen times as much is tried, also farther away. */
export const LONG: Effort = {
  read: 2 ** 33,
  readFirst: 2 ** 38,
  readEach: 64,
  breaksBlind: 64,
  breaksPlaced: 2048,
  seams: 5,
  ways: 8,
  reach: 1 << 27,
  reachBlind: 1 << 27,
  leastAway: 4096,
  mostAway: 65_536,
  looks: 2_000_000,
  looksEach: 800_000,
  followed: 768 << 20,
  followedEach: 320 << 20,
  followedForWays: 128 << 20,
};
