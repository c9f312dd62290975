/** A request as it is to be sent. */
export type Request = { method: string; url: string; headers: Record<string, string>; body: string };

const single = (s: string) => `'${s.replace(/'/g, `'\\''`)}'`;
const double = (s: string) => JSON.stringify(s);
const entries = (r: Request) => Object.entries(r.headers);
const sends = (r: Request) => !["GET", "HEAD", "DELETE"].includes(r.method);

/** A request as a person pastes it, by the language in which it is written. */
export const written: Record<string, (r: Request) => string> = {
  curl: (r) =>
    [
      `curl -i -X ${r.method} ${single(r.url)}`,
      ...entries(r).map(([k, v]) => `-H ${single(`${k}: ${v}`)}`),
      ...(sends(r) ? [`--data-binary ${single(r.body)}`] : []),
    ].join(" \\\n  "),
  Go: (r) => `package main

import (
\t"fmt"
\t"io"
\t"net/http"
\t"strings"
)

func main() {
\treq, err := http.NewRequest(${double(r.method)}, ${double(r.url)}, strings.NewReader(${double(sends(r) ? r.body : "")}))
\tif err != nil {
\t\tpanic(err)
\t}
${entries(r)
  .map(([k, v]) => `\treq.Header.Set(${double(k)}, ${double(v)})`)
  .join("\n")}
\tres, err := http.DefaultClient.Do(req)
\tif err != nil {
\t\tpanic(err)
\t}
\tdefer res.Body.Close()
\tbody, _ := io.ReadAll(res.Body)
\tfmt.Println(res.Status, string(body))
}
`,
  JavaScript: (r) => `const res = await fetch(${double(r.url)}, {
  method: ${double(r.method)},
  headers: ${JSON.stringify(r.headers, null, 2).replace(/\n/g, "\n  ")},${sends(r) ? `\n  body: ${double(r.body)},` : ""}
});
console.log(res.status, await res.text());
`,
  Python: (r) => `import urllib.request, urllib.error

request = urllib.request.Request(
    ${double(r.url)},
    method=${double(r.method)},
    headers=${JSON.stringify(r.headers, null, 4).replace(/\n/g, "\n    ")},
    data=${sends(r) ? `${double(r.body)}.encode("utf-8")` : "None"},
)
try:
    with urllib.request.urlopen(request) as answer:
        print(answer.status, answer.read().decode("utf-8"))
except urllib.error.HTTPError as answer:
    print(answer.code, answer.read().decode("utf-8"))
`,
};
