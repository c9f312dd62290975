/** How a map is made: by pointing, by forms, by conditions. */
export const HelpMapping = () => (
  <section id="mapping">
    <h2 className="mb-1 text-[17px]">Mapping</h2>
    <p className="mb-2">
      The desk of a map has two documents: the message before the step, and the target line by line, each with its value
      for the sample and where it comes from in words. Show what the target looks like first: paste an example, or name
      a schema of the flow, a kind of HL7 message or a table. Lines that must be there say so, and offer the likeliest
      value.
    </p>
    <ul className="list-disc space-y-1 pl-5">
      <li>
        Click a line and then a value, or a value and then its line, or carry it there. Behind it the next line without
        a source waits for its value. A name, a segment or the word “rows” picks an object, a segment or a list as a
        whole.
      </li>
      <li>
        A list onto a list makes a loop; lines whose names are those of the items are taken at once. In a loop a click
        on any item's value means that of each item. <b>Only items</b> leaves some out, <b>in the order of</b> sorts
        them.
      </li>
      <li>
        ▾ offers what may become of the value, each with its result here: dates, numbers, texts, codes through a table,
        yes or no, base64. The choice is an expression and reads back from it; the last entry shows it.
      </li>
      <li>
        <b>take by like names</b> shows which lines and values belong together by their names, and takes those that you
        leave ticked.
      </li>
      <li>
        Where a map starts from an example, what no line writes stays as the example has it, and the first row of a list
        is the pattern of every row.
      </li>
      <li>
        By keyboard: arrows go through the lines, Enter opens one or gives it what is picked, Delete takes its source
        away, Alt with an arrow moves it, Esc lets go.
      </li>
    </ul>
    <h3 className="mt-3 mb-1 font-semibold">Conditions</h3>
    <p className="mb-2">
      A condition is put together from comparisons that fit the value, joined by all of or any of, with groups in one
      another. It is an expression all the time; one that is more than comparisons stays as it is written. When
      something that a condition reads is not in the message, the message is a dead letter, or, with{" "}
      <span className="chip">missing: otherwise</span> at the intake, the condition counts as false, with a note.
    </p>
    <h3 className="mb-1 font-semibold">Characters and other formats</h3>
    <p>
      <span className="chip">encoding</span> of an intake says in what character set messages come, where neither they
      nor their Content-Type do; that of a delivery in what they leave. <span className="chip">quotes: lenient</span>{" "}
      takes CSV as many programs write it. <span className="chip">jsonl</span> is a JSON value a line,{" "}
      <span className="chip">fixed</span> is text whose columns have widths, <span className="chip">multipart</span> is
      a form whose files have <span className="chip">filename</span>, <span className="chip">type</span> and{" "}
      <span className="chip">content</span>. <span className="chip">avro</span> and{" "}
      <span className="chip">protobuf</span> are read and written by a schema among the flow's files, a{" "}
      <span className="chip">.avsc</span> or <span className="chip">.proto</span>: what comes is its tree, a map by the
      names of the fields, and a map into one shows its lines. Dates, times and decimals are texts and exact numbers;
      what the schema does not take is an error that names its path.
    </p>
    <h3 className="mb-1 mt-2 font-semibold">An earlier message</h3>
    <p>
      Above the source stands which message it is: the one here, the one as it came in, or the one behind an earlier
      step. What you point at there is read by <span className="chip">bodies.intake</span> or{" "}
      <span className="chip">bodies.clean</span>, by the id of the step. Headers, what steps have set, looked up and
      been answered stand below it.
    </p>
    <h3 className="mb-1 mt-2 font-semibold">By keyboard alone</h3>
    <p>
      Enter on the row of a map goes to its lines. Arrows go from line to line, and Ctrl+F finds one by its name. Type
      the name or the value of what a line is to have, and Enter puts it there and goes on to the next line; the space
      bar takes what is most like the line. Enter on a line that has a value opens its settings, Delete takes it away.
    </p>
    <h3 className="mb-1 mt-2 font-semibold">Where a value comes from</h3>
    <p>
      Point at a line of the target: what it reads lights up in the source; point at a value of the source: the lines
      that read it light up. Lines are copied below them, or by Ctrl+C, and put into the map of another step or flow by
      Ctrl+V; one that writes where an earlier one does takes its place. Ctrl+C on a value of a tree copies it, and what
      you have folded stays folded.
    </p>
  </section>
);
