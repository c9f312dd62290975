/** How the sheet is edited, how samples come to it, and what is shown before a draft is live. */
export function HelpSheet() {
  return (
    <>
      <section id="editing">
        <h2 className="mb-1 text-[17px]">Editing on the sheet</h2>
        <p className="mb-1">
          Press <kbd>a</kbd> and type a verb, or what a step should do: “only if body.n &gt; 1”, “wait 5 minutes”, “put
          it into totes”. Steps are dragged by their numbers, or moved with Alt and the arrows: over their neighbours,
          into ways and splits, and out of them. Shift with the arrows, or with a click on a number, chooses several:
          one setting is then set on all of them, and they are moved, copied, switched off, folded or removed together.{" "}
          <kbd>f</kbd> folds a way, a split, or what is chosen; a folded row shows the worst of what it holds. A step
          that is called otherwise is called so wherever expressions and samples name it.
        </p>
        <p className="mb-1">
          Steps that stand one behind the other become a flow of their own, which other flows can call as well; “its
          steps here” brings them back. Where steps follow, the answer of that flow is waited for and goes on as the
          message. A connection or table that a step names and there is not is made over the sheet.
        </p>
        <p>
          A finding stands in the row that it concerns; where an edit does away with it, there is a button that makes
          it. A row that no sample comes to says so, and a message that gets there is made up and rehearsed where one
          can be found. Text that looks like a secret is found: everything in a flow is in every copy of it.
        </p>
      </section>
      <section id="samples">
        <h2 className="mb-1 text-[17px]">Samples</h2>
        <p className="mb-1">
          Drop files on the page, paste a message, keep one from a transaction, catch the next that comes, or have one
          made up: of a schema among the files of the flow, of a type of HL7, or one that gets to a row. JSON is edited
          as its text or as a tree. Samples may belong to a group, which is shown alone, and checked alone by{" "}
          <span className="data">readyferry check --samples FOLDER --group NAME</span>.
        </p>
        <p>
          What outside systems answer is said step by step. An ask that is marked as harmless can be tried for real with
          a sample: it is asked once, and its answer is kept as the stand-in's; nothing else leaves.
        </p>
      </section>
      <section id="publish">
        <h2 className="mb-1 text-[17px]">Before it is live</h2>
        <p className="mb-1">
          Publish shows what a new version changes, in words; the samples that are not as expected; the steps and ways
          that no sample reaches; and step by step the samples that go another way than under the live version. The last
          thousand real messages, or those of a span, are walked through the draft over what outside systems answered
          and tables held then: those that would go another way or come out different stand in groups, with what they
          have in common, and each can be looked at as it went and as it would go. A question that was never asked has
          no answer; the group says so. Nothing leaves while one looks. Who else is touched is told as well: the flows
          that read what this one fills, each tried with what the samples hand on, and those that call it.
        </p>
        <p className="mb-1">
          A version can go live at a time, or take a share of messages first: one in so many, by the hash of the order
          value, so that all messages of one value go through the same version. The sheet then says how both do; one
          click takes it for all messages, one takes it back. Versions shows who published what and why, what lies
          between any two, and puts an earlier one to work again; the draft stays as it is. A draft with errors, and one
          that is as the live version, cannot be published. Over samples that are not as expected it needs a reason; the
          version keeps it, with your word for those who come after and your name, which nobody checks.
        </p>
        <p className="mb-1">
          The ways of a route are analysed, whatever the samples are: a way that can never be taken, two that fit the
          same message, and what fits none, each with a message that shows it, which can be kept as a sample. It is
          exact for comparisons with fixed values, membership in a list, presence and beginnings of texts, put together
          with and, or and not. Of other conditions it says that nothing is decided.
        </p>
        <p className="mb-1">
          A team&apos;s own builds do the same:{" "}
          <span className="data">readyferry check flow.yaml --samples samples</span> rehearses the samples of a folder
          and ends with 1 where one is not as expected; <span className="data">--coverage</span> tells what none
          reaches, <span className="data">--junit report.xml</span> writes what builds read.
        </p>
        <p>
          What an expression reads and no sample has that comes to its step is found, with the names that are most like
          it; a name that stands in a schema of the flow, or is asked for by <span className="data">has(body.x)</span>{" "}
          or <span className="data">body.?x</span>, is not.
        </p>
      </section>
    </>
  );
}
