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
    </section>
  );
}
