import { DropdownMenu } from "radix-ui";

const item = "cursor-pointer px-3 py-1 outline-none data-[highlighted]:bg-mark";

/** How another sample comes to the sheet, and which of them are shown. */
export function SampleMenu(p: {
  catching: boolean;
  onNew: () => void;
  onCatch: () => void;
  onStop: () => void;
  /** Where the flow was never published, every message is kept already. */
  live: boolean;
  groups: string[];
  group: string;
  onGroup: (group: string) => void;
}) {
  if (p.catching)
    return (
      <span role="status" className="block py-1 text-[12px]">
        waits for a message{" "}
        <button type="button" className="btn-bare" onClick={p.onStop}>
          stop
        </button>
      </span>
    );
  return (
    <span className="flex flex-col items-start">
      <button type="button" className="btn-bare" onClick={p.onNew}>
        + sample
      </button>
      <DropdownMenu.Root modal={false}>
        <DropdownMenu.Trigger className="btn-bare font-normal text-[12px]" aria-label="More about samples">
          {p.group ? p.group : "more"}
        </DropdownMenu.Trigger>
        <DropdownMenu.Portal>
          <DropdownMenu.Content align="end" className="z-40 border border-line bg-sheet py-1">
            <DropdownMenu.Item className={item} onSelect={p.onNew}>
              Write or paste one
            </DropdownMenu.Item>
            {p.live && (
              <DropdownMenu.Item className={item} onSelect={p.onCatch}>
                Catch the next message
              </DropdownMenu.Item>
            )}
            <DropdownMenu.Label className="px-3 py-1 text-[12px] text-quiet">
              or drop files anywhere on the page
            </DropdownMenu.Label>
            {p.groups.length > 0 && (
              <DropdownMenu.RadioGroup value={p.group} onValueChange={p.onGroup}>
                <DropdownMenu.Separator className="my-1 border-t border-line" />
                <DropdownMenu.RadioItem value="" className={`${item} data-[state=checked]:font-bold`}>
                  All samples
                </DropdownMenu.RadioItem>
                {p.groups.map((g) => (
                  <DropdownMenu.RadioItem key={g} value={g} className={`${item} data-[state=checked]:font-bold`}>
                    {g}
                  </DropdownMenu.RadioItem>
                ))}
              </DropdownMenu.RadioGroup>
            )}
          </DropdownMenu.Content>
        </DropdownMenu.Portal>
      </DropdownMenu.Root>
    </span>
  );
}
