import type { Step } from "./model";

type SampleOf = {
  name: string;
  body: string;
  replies?: Record<string, { status: number; body?: string }>;
  group?: string;
};

/** A worked pattern: a flow that can be rehearsed at once, with samples that show what it is for. */
export type Pattern = {
  name: string;
  title: string;
  why: string;
  intake?: Record<string, unknown>;
  steps: Step[];
  samples: SampleOf[];
  /** Stand-ins that the flow asks, by what each answers: they come with it, and a real system takes their place later. */
  asks?: Record<string, unknown>;
};

const json = (v: unknown) => JSON.stringify(v, null, 2);
const outside = (queue: string) => ({ queue, readers: "outside" });

/** The patterns that most flows are made of; each uses what ships with the application alone. */
export const patterns: Pattern[] = [
  {
    name: "by-content",
    title: "Send each message where its content says",
    why: "One sender, several takers: a condition on a value decides, and what fits none is not lost.",
    steps: [
      {
        id: "which",
        kind: "route",
        take: "first",
        ways: [
          {
            name: "urgent",
            when: 'body.priority == "urgent"',
            steps: [{ id: "to-urgent", kind: "deliver", to: outside("urgent-requests") }],
          },
          {
            name: "usual",
            when: 'body.priority == "usual"',
            steps: [{ id: "to-usual", kind: "deliver", to: outside("usual-requests") }],
          },
        ],
        otherwise: {
          steps: [
            {
              id: "unknown",
              kind: "note",
              text: "priority ${body.?priority.orValue('none')} is not known",
              level: "warning",
            },
            { id: "to-desk", kind: "deliver", to: outside("request-desk") },
          ],
        },
      },
    ],
    samples: [
      { name: "urgent", body: json({ request: "R-1", priority: "urgent" }) },
      { name: "usual", body: json({ request: "R-2", priority: "usual" }) },
      { name: "something else", body: json({ request: "R-3" }) },
    ],
  },
  {
    name: "split-and-gather",
    title: "Take a list apart, and put the results together",
    why: "Each item goes its own way, and one message comes of them when all are through.",
    steps: [
      {
        id: "each-item",
        kind: "split",
        each: "body.items",
        steps: [
          { id: "in-stock", kind: "filter", keep: "part.count > 0", reason: "${part.item} is out of stock" },
          { id: "all", kind: "aggregate", key: "message.parent", close: { parts: true }, result: "list" },
          { id: "to-shelf", kind: "deliver", to: outside("picking-lists") },
        ],
      },
    ],
    samples: [
      {
        name: "three items",
        body: json({
          order: "O-1",
          items: [
            { item: "a", count: 1 },
            { item: "b", count: 2 },
            { item: "c", count: 4 },
          ],
        }),
      },
      {
        name: "one is missing",
        body: json({
          order: "O-2",
          items: [
            { item: "a", count: 1 },
            { item: "b", count: 0 },
          ],
        }),
      },
    ],
  },
  {
    name: "ask-several",
    title: "Ask several at once, and go on with what comes in time",
    why: "Each partner is asked side by side; one that is late or fails does not hold up the rest.",
    asks: { "north-partner": { price: 4 }, "south-partner": { price: 3 } },
    steps: [
      {
        id: "partners",
        kind: "scatter",
        within: "10s",
        gather: "all",
        ways: [
          { name: "north", steps: [{ id: "ask-north", kind: "ask", of: "north-partner", path: "/offers" }] },
          { name: "south", steps: [{ id: "ask-south", kind: "ask", of: "south-partner", path: "/offers" }] },
        ],
      },
      { id: "to-desk", kind: "deliver", to: outside("offers") },
    ],
    samples: [
      {
        name: "both answer",
        body: json({ title: "T-1" }),
        replies: {
          "ask-north": { status: 200, body: json({ price: 4 }) },
          "ask-south": { status: 200, body: json({ price: 3 }) },
        },
      },
    ],
  },
  {
    name: "once-each",
    title: "Do each thing once, whatever comes twice",
    why: "Senders repeat what they are not sure of; a key tells a repeat, and its sender gets the first one's answer.",
    intake: { once: "body.event", reference: "body.event" },
    steps: [
      { id: "same-content", kind: "once", key: "body.card + body.item", for: "1h" },
      { id: "to-ledger", kind: "deliver", to: outside("ledger") },
    ],
    samples: [
      { name: "first", body: json({ event: "E-1", card: "LC 1", item: "I-1" }) },
      { name: "again, as another event", body: json({ event: "E-2", card: "LC 1", item: "I-1" }) },
      { name: "another", body: json({ event: "E-3", card: "LC 2", item: "I-1" }) },
    ],
  },
  {
    name: "in-order",
    title: "Put messages back into their order",
    why: "What was overtaken on its way waits for its turn, by a number that the sender gives.",
    steps: [
      { id: "in-order", kind: "resequence", key: "body.account", number: "body.seq", wait: "5m" },
      { id: "to-ledger", kind: "deliver", to: outside("account-changes") },
    ],
    samples: [
      { name: "second", body: json({ account: "A", seq: 2, change: "-3" }) },
      { name: "first", body: json({ account: "A", seq: 1, change: "+5" }) },
      { name: "third", body: json({ account: "A", seq: 3, change: "+1" }) },
    ],
  },
  {
    name: "fill-in",
    title: "Ask for what is missing, and hand on the whole",
    why: "The message names a record; its keeper is asked for it, and the target gets one document.",
    asks: { "member-records": { name: "o'neil, maud", branch: "MARL" } },
    steps: [
      { id: "record", kind: "ask", of: "member-records", path: "/members/${body.member}" },
      {
        id: "whole",
        kind: "map",
        fields: [
          { to: "/request", from: "body.request" },
          { to: "/member/name", from: "replies.record.body.name" },
          { to: "/member/branch", from: "replies.record.body.branch", missing: "skip" },
        ],
      },
      { id: "to-desk", kind: "deliver", to: outside("complete-requests") },
    ],
    samples: [
      {
        name: "known member",
        body: json({ request: "R-1", member: "M-7" }),
        replies: { record: { status: 200, body: json({ name: "o'neil, maud", branch: "MARL" }) } },
      },
    ],
  },
  {
    name: "tell-everybody",
    title: "Tell everybody who wants to know",
    why: "The sender does not know who listens: each subscription reads the topic at its own place.",
    steps: [
      {
        id: "event",
        kind: "map",
        fields: [
          { to: "/what", from: '"item-returned"' },
          { to: "/item", from: "body.item" },
          { to: "/at", from: "string(now())" },
        ],
      },
      { id: "tell", kind: "deliver", to: { topic: "returns-told" } },
    ],
    samples: [{ name: "a return", body: json({ item: "I-1", branch: "MARL" }) }],
  },
  {
    name: "try-again",
    title: "Try again, then let a person decide",
    why: "A target that is down is tried on a plan; what it refuses goes to those who can mend it, and nothing is lost.",
    steps: [
      {
        id: "valid",
        kind: "validate",
        schema: { type: "object", required: ["item"], properties: { item: { type: "string" } } },
        else: { answer: 422 },
      },
      {
        id: "enough",
        kind: "filter",
        keep: "body.count > 0",
        else: { steps: [{ id: "to-repair", kind: "deliver", to: outside("repair-desk") }] },
      },
      { id: "to-target", kind: "deliver", to: outside("reservations") },
    ],
    samples: [
      { name: "as it should be", body: json({ item: "I-1", count: 2 }) },
      { name: "without an item", body: json({ count: 2 }) },
      { name: "count is no number", body: json({ item: "I-1", count: "two" }) },
    ],
  },
];
