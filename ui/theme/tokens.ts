/** The sea chart's colours. Each says what it is for; magenta marks only what the technician has marked or chosen. */
export interface ChartColours {
  /** Ground of the page, and of working surfaces. */
  paper: string;
  sheet: string;
  hairline: string;
  hairlineSoft: string;
  ink: string;
  inkSoft: string;
  /** For labels that are not needed to work: still readable on paper. */
  inkFaint: string;
  buff: string;
  buffDeep: string;
  depth1: string;
  depth2: string;
  depth3: string;
  depth4: string;
  depth5: string;
  /** Marks of live files: paler than those of lost ones, and still distinct from the ground. */
  live: string;
  tidal: string;
  tidalDeep: string;
  mark: string;
  markSoft: string;
}

export const DAY: ChartColours = {
  paper: "#FBFAF6",
  sheet: "#FFFFFF",
  hairline: "#DAD6C9",
  hairlineSoft: "#EAE7DC",
  ink: "#16303D",
  inkSoft: "#51656E",
  inkFaint: "#63747C",
  buff: "#F1E6C8",
  buffDeep: "#DFC98F",
  depth1: "#E3EFF4",
  depth2: "#C4DDE8",
  depth3: "#8DBBD0",
  depth4: "#3F7F9E",
  depth5: "#1E5874",
  live: "#5E98B4",
  tidal: "#C9D6B6",
  tidalDeep: "#6C8A51",
  mark: "#A8126B",
  markSoft: "#F7E1EE",
};

export const NIGHT: ChartColours = {
  paper: "#0E1B22",
  sheet: "#12232C",
  hairline: "#2C424D",
  hairlineSoft: "#20343E",
  ink: "#E6EDEE",
  inkSoft: "#A9BAC1",
  inkFaint: "#93A5AD",
  buff: "#3B3628",
  buffDeep: "#6E6140",
  depth1: "#1A3441",
  depth2: "#234A5C",
  depth3: "#35708B",
  depth4: "#6DAAC6",
  depth5: "#A5D3E8",
  live: "#5FA3C2",
  tidal: "#33412D",
  tidalDeep: "#93AE7B",
  mark: "#F48CC2",
  markSoft: "#43203A",
};
