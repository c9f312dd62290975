import { Dialog } from "../ui/parts";

/** What would be left behind, and how to go on all the same. */
export type LeftBehind = { what: string; why: string; go: () => void };

/** Asks before something is left behind, and names it. */
export function AllTheSame({ left, onClose }: { left: LeftBehind | null; onClose: () => void }) {
  return (
    <Dialog open={left !== null} onClose={onClose} title="Something would be left behind">
      <p className="mb-3">{left?.why}</p>
      <div className="flex gap-2">
        <button
          type="button"
          className="btn btn-go"
          onClick={() => {
            left?.go();
            onClose();
          }}
        >
          {left?.what} all the same
        </button>
        <button type="button" className="btn" onClick={onClose}>
          Leave it as it is
        </button>
      </div>
    </Dialog>
  );
}
