// The queue of edits: one after another, each made from what stands when its turn comes.

import assert from "node:assert/strict";
import test from "node:test";
import { studio } from "./page.js";

const { edits } = await studio("edits");

/** A page whose song is a number, on a server that answers when it is told to. */
function page({ broken = false } = {}) {
  const asked = [], waiting = [];
  globalThis.fetch = (url, { body }) => new Promise((resolve) => {
    asked.push({ url, body: body.startsWith?.("{") ? JSON.parse(body) : body });
    waiting.push((status, data) => resolve({ ok: status === 200, status, json: async () => data }));
  });
  const here = { revision: 1, value: 0, shown: [], refusals: 0 };
  const says = { textContent: "" };
  const send = edits({
    url: "/remakes/1/edit/?show=plan", says, revision: () => here.revision, refused: () => { here.refusals += 1; },
    show: (state) => {
      if (broken) throw new Error("can't be drawn");
      Object.assign(here, state);
      here.shown.push(state.revision);
    },
  });
  const answered = async (status, data) => {
    while (!waiting.length) await new Promise((resolve) => setTimeout(resolve, 1));
    waiting.shift()(status, data);
  };
  return { asked, here, says, send, answered };
}

test.beforeEach((context) => { context.mock.method(console, "warn", () => {}); });

test("the second edit waits for the first and is made from what it left", async () => {
  const { asked, here, send, answered } = page();
  const first = send({ kind: "add", by: 1 }), second = send(() => ({ kind: "set", to: here.value + 1 }));
  await answered(200, { revision: 2, value: 10 });
  await first;
  await answered(200, { revision: 3, value: 11 });
  await second;
  assert.deepEqual(asked.map((a) => a.body), [{ revision: 1, edit: { kind: "add", by: 1 } }, { revision: 2, edit: { kind: "set", to: 11 } }]);
  assert.deepEqual(here.shown, [2, 3]);
});

test("an edit that there is no more reason for is not sent", async () => {
  const { asked, here, send } = page();
  await send(() => null);
  assert.equal(asked.length, 0);
  assert.equal(here.refusals, 0);
});

test("what was refused is said, and what stands is drawn", async () => {
  const { here, says, send, answered } = page();
  const done = send({ kind: "bad" });
  await answered(400, { error: "That can’t be." });
  await done;
  assert.equal(says.textContent, "That can’t be.");
  assert.equal(here.refusals, 1);
});

test("an overtaken page shows the newer state, and the next edit is made on it", async () => {
  const { asked, here, send, answered } = page();
  const first = send({ kind: "one" });
  await answered(409, { error: "changed meanwhile", state: { revision: 7, value: 70 } });
  await first;
  const second = send({ kind: "two" });
  await answered(200, { revision: 8, value: 80 });
  await second;
  assert.equal(asked[1].body.revision, 7);
  assert.equal(here.revision, 8);
});

test("an answer that can't be drawn doesn't keep the next edit from being sent", async () => {
  const { asked, says, send, answered } = page({ broken: true });
  const first = send({ kind: "one" });
  await answered(200, { revision: 2 });
  await first;
  assert.match(says.textContent, /could not show the last change/);
  const second = send({ kind: "two" });
  await answered(200, { revision: 3 });
  await second;
  assert.equal(asked.length, 2);
});

test("the page says while an edit is under way", async () => {
  const { send, answered } = page();
  const done = send({ kind: "one" });
  assert.equal(document.body["data-saving"], true);
  await answered(200, { revision: 2 });
  await done;
  await new Promise((resolve) => setTimeout(resolve, 1));
  assert.equal(document.body["data-saving"], false);
});
