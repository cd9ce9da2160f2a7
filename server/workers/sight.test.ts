import { describe, expect, it } from "vitest";
import { flagOfJob, flagOfSource, leftToOthers } from "./sight";

const sources = [
  { id: 1, jobId: 10 },
  { id: 2, jobId: 10 },
  { id: 3, jobId: 11 },
];
const seeing = (...ids: number[]) => new Set(ids);

describe("work a worker leaves to others", () => {
  it("is what reads a source it does not see and another does", () => {
    expect(leftToOthers(sources, seeing(2, 3), [seeing(1, 2, 3)])).toEqual([flagOfSource(1), flagOfJob(10)]);
    // What nobody sees is taken, so that somebody says so.
    expect(leftToOthers(sources, seeing(2, 3), [seeing(2)])).toEqual([]);
  });

  it("is none where it sees all, or is alone", () => {
    expect(leftToOthers(sources, seeing(1, 2, 3), [seeing(1), null])).toEqual([]);
    expect(leftToOthers(sources, seeing(), [])).toEqual([]);
  });

  it("is all of a worker that sees nothing, as long as it is not known what another one sees", () => {
    expect(leftToOthers(sources, seeing(), [null])).toEqual([1, 2, 3].map(flagOfSource).concat([10, 11].map(flagOfJob)));
  });

  it("never leaves the sources of a job to nobody: of workers that see one each, each may take its work", () => {
    const [one, other] = [seeing(1), seeing(2)];
    expect(leftToOthers(sources, one, [other])).not.toContain(flagOfJob(10));
    expect(leftToOthers(sources, other, [one])).not.toContain(flagOfJob(10));
    for (const all of [
      [seeing(1), seeing(2, 3), seeing()],
      [seeing(), seeing()],
      [seeing(1, 2, 3), seeing(3)],
    ])
      for (const { jobId } of sources) {
        const left = all.filter((mine) =>
          leftToOthers(
            sources,
            mine,
            all.filter((each) => each !== mine),
          ).includes(flagOfJob(jobId)),
        );
        expect(left.length).toBeLessThan(all.length);
      }
  });
});
