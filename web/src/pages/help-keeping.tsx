/** How a journal is kept safe, and looked at from outside. */
export function HelpKeeping() {
  return (
    <section id="keeping">
      <h2 className="mb-1 text-[17px]">Backup and proof</h2>
      <p className="mb-2">
        All that is kept lies in one folder. <span className="chip">readyferry backup --data DIR --to FILE.tar</span>{" "}
        writes it as it is at one moment, also while the application is at work there and messages come from all sides;
        the key to the secrets is in it, so keep it as safe as the folder.{" "}
        <span className="chip">readyferry restore --from FILE.tar --data NEW</span> compares each file with what the
        backup says of it and makes a folder. Started there, work that had not ended goes on: what was delivered since
        is delivered once more, under the Idempotency-Key that it had.
      </p>
      <p>
        <span className="chip">readyferry verify --data DIR</span> looks at a whole journal from outside, while nobody
        works there: whether every transaction has ended or waits for something that exists, counts agree with what they
        count, bodies are there and unchanged, and tries are due when their plans say. Its exit code is 1, with a list,
        when something does not hold.
      </p>
      <h3 className="mt-3 mb-1 font-semibold">From one instance to another</h3>
      <p className="mb-2">
        <span className="chip">readyferry export FOLDER --data DIR</span>, or with{" "}
        <span className="chip">--from URL --key KEY</span> from a running one, writes flows with their samples, tables,
        connections without secrets, and people as a folder of open files, nice to keep in git.{" "}
        <span className="chip">readyferry import FOLDER --to URL --key KEY --preview</span> says exactly what taking it
        would change; without <span className="chip">--preview</span> it is done, in one transaction. Connections that
        are there already stay with <span className="chip">--keep-connections</span>, and{" "}
        <span className="chip">--remove-others</span> removes what is not in the folder.{" "}
        <span className="chip">readyferry promote FLOW --from URL --from-key KEY --to URL --key KEY</span> takes the
        draft of a flow with its samples to another instance, whose addresses and secrets it then has.
      </p>
      <h3 className="mt-3 mb-1 font-semibold">How long messages are kept</h3>
      <p className="mb-2">
        What is delivered or turned away is kept for 30 days behind its end, in flows made from this release on; a flow
        says otherwise with <span className="chip">retain: {"{days: 90, bytes: 10GiB}"}</span> or{" "}
        <span className="chip">retain: {"{days: forever}"}</span>, on its first row under “Kept, and how much is taken”.
        With bytes the oldest that have ended go first. What is under way or waits, open dead letters and open groups
        stay; closed loads and groups, and letters that somebody has decided about, go with their messages. A table
        keeps the versions of the last 30 days likewise. The file gives the room back while the application is at work.
        Flows and tables of earlier releases keep everything until they say how long.
      </p>
      <h3 className="mt-3 mb-1 font-semibold">When room runs short</h3>
      <p className="mb-2">
        Before the disk is full nothing more is taken in: webhooks and programs get 429 with Retry-After, receivers stop
        taking, schedules, polls and loads wait, and Flows says so. By default that is when less than 1 GiB, or a
        twentieth of a small disk, is free; the line “room for messages” on Flows sets it, and the most that the journal
        may have. It ends when a tenth more is free, or the journal has a twentieth less.
      </p>
      <p className="mb-2">
        A body of up to 64 MB that no step reads goes to the disk while it comes, and from there to the target, without
        ever being held: the intake says <span className="chip">format: binary</span> and a larger limit, has no
        conditions over body, and its steps hand the message over as it is: over HTTP where the connection neither signs
        nor compresses, and into files, over SFTP and FTP, and into objects. Other systems take it whole, as one copy.
      </p>
      <p className="mb-2">
        Flows that deliver to the same connection take turns, however much one of them has waiting; one with{" "}
        <span className="chip">weight: 3</span> has three turns while another has one.
      </p>
      <p>
        A flow takes so many messages and bytes in a second as its{" "}
        <span className="chip">limits: {"{per-second: 200, bytes: 1MiB}"}</span> say, a key so many calls as was set
        with it: whoever calls more often gets 429 with Retry-After, and what the flow fetches itself waits.
      </p>
    </section>
  );
}
