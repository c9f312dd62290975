import { useState } from "react";
import { call, type Schemas } from "../api/client";
import { queryClient, useRoom } from "../api/queries";
import { Mark } from "../ui/marks";
import { Dialog, Setting, says, Text } from "../ui/parts";
import { age, size, useNow } from "../ui/time";

/** How much room there is for messages; a click says when there is too little. */
export function RoomLine() {
  const room = useRoom();
  const [open, setOpen] = useState(false);
  const r = room.data;
  if (!r) return null;
  return (
    <>
      <button
        type="button"
        className="flex w-full items-center gap-2.5 py-1 text-left hover:underline"
        onClick={() => setOpen(true)}
        data-testid="room"
      >
        <Mark state={r.since ? "waiting" : "delivered"} />
        <b className="flex-1">{r.since ? "no room for messages" : "room for messages"}</b>
        <span className="text-quiet">
          {size(r.free)} free, the journal has {size(r.journal)}
        </span>
      </button>
      {open && <RoomDialog room={r} onClose={() => setOpen(false)} />}
    </>
  );
}

/** Says that nothing is taken in, while that is so. */
export function NoRoom() {
  const r = useRoom().data;
  const now = useNow(5000);
  if (!r?.since) return null;
  return (
    <p role="alert" className="border-dead border-b bg-sheet px-4 py-2 text-dead" data-testid="no-room">
      Nothing is taken in, for {age(now - new Date(r.since).getTime())}: {r.why}. Callers are told to come again,
      sources wait; what is here goes on.
    </p>
  );
}

function RoomDialog({ room, onClose }: { room: Schemas["Room"]; onClose: () => void }) {
  const [free, setFree] = useState(room.usual ? "" : size(room.minFree));
  const [most, setMost] = useState(room.maxJournal ? size(room.maxJournal) : "");
  const [bad, setBad] = useState<{ free?: string; most?: string }>({});
  const save = async () => {
    const minFree = bytes(free);
    const maxJournal = bytes(most);
    const wrong = "write a size such as 500 MiB or 2 GiB";
    setBad({ free: minFree === undefined ? wrong : undefined, most: maxJournal === undefined ? wrong : undefined });
    if (minFree === undefined || maxJournal === undefined) return;
    try {
      await call("/api/v1/room", { method: "PUT", body: { minFree, maxJournal: maxJournal ?? 0 } });
      await queryClient.invalidateQueries({ queryKey: ["flows", "room"] });
      onClose();
    } catch (e) {
      setBad({ most: says(e) });
    }
  };
  return (
    <Dialog open onClose={onClose} title="Room for messages">
      <form
        onSubmit={(e) => {
          e.preventDefault();
          save();
        }}
      >
        <p className="mb-3">
          {size(room.free)} of {size(room.disk)} are free where the data lies; the journal has {size(room.journal)}.
          Before that runs out nothing more is taken in: webhooks answer 429, receivers stop taking, schedules, polls
          and loads wait.
        </p>
        <div className="flex gap-2">
          <Setting inline label="To stay free" hint={`${size(room.minFree)} when empty`} error={bad.free}>
            <Text label="To stay free" value={free} onChange={setFree} placeholder="1 GiB" />
          </Setting>
          <Setting inline label="The journal may have" hint="any size when empty" error={bad.most}>
            <Text label="The journal may have" value={most} onChange={setMost} placeholder="20 GiB" />
          </Setting>
        </div>
        <button type="submit" className="btn btn-go">
          Save
        </button>
      </form>
    </Dialog>
  );
}

const units: Record<string, number> = { "": 1, B: 1, KiB: 2 ** 10, MiB: 2 ** 20, GiB: 2 ** 30, TiB: 2 ** 40 };

/** Reads a size; null for none, undefined for what is none. */
function bytes(text: string): number | null | undefined {
  if (!text.trim()) return null;
  const m = /^([0-9]+(?:\.[0-9]+)?)\s*([KMGT]iB|B|)$/.exec(text.trim());
  return m ? Math.round(Number(m[1]) * (units[m[2] ?? ""] ?? 1)) : undefined;
}
