import { QueryObserver } from "@tanstack/react-query";
import { expect, test } from "vitest";
import { makeQueryClient } from "./query-client";

const queryKey = ["job", 1, "results"];

/** Follows one list of a server whose answers are given by hand. */
function follow() {
  const client = makeQueryClient();
  const asked: ((answer: string) => void)[] = [];
  const observer = new QueryObserver(client, { queryKey, queryFn: () => new Promise<string>((answer) => asked.push(answer)) });
  let shown: string | undefined;
  const end = observer.subscribe(({ data }) => {
    shown = data;
  });
  const settle = () => new Promise((done) => setTimeout(done, 20));
  return { client, asked, shown: () => shown, settle, end };
}

test("what changed while it was first fetched is fetched once more, and only once", async () => {
  const { client, asked, shown, settle, end } = follow();
  expect(asked).toHaveLength(1);
  void client.invalidateQueries({ queryKey: ["job", 1] });
  void client.invalidateQueries({ queryKey: ["job", 1] });
  asked[0]?.("before the change");
  await settle();
  expect(asked).toHaveLength(2);
  asked[1]?.("after the change");
  await settle();
  expect(shown()).toBe("after the change");
  expect(asked).toHaveLength(2);
  end();
  client.clear();
});

test("what changed while it was fetched anew is fetched from the beginning", async () => {
  const { client, asked, shown, settle, end } = follow();
  asked[0]?.("first");
  await settle();
  void client.invalidateQueries({ queryKey });
  void client.invalidateQueries({ queryKey });
  asked[1]?.("before the change");
  asked[2]?.("after the change");
  await settle();
  expect(shown()).toBe("after the change");
  expect(asked).toHaveLength(3);
  end();
  client.clear();
});
