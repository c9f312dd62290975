package format

import "bytes"

// Edited gives a document that a person has edited the line ends that it had. Editors know LF
// alone, where HL7 has CR and many files have CRLF; whoever changes one character changes one.
// A document whose line ends were mixed stays as it was edited.
func Edited(was, now []byte) []byte {
	crlf, cr := bytes.Count(was, []byte("\r\n")), bytes.Count(was, []byte("\r"))
	lf := bytes.Count(was, []byte("\n"))
	plain := bytes.ReplaceAll(now, []byte("\r\n"), []byte("\n"))
	switch {
	case cr > 0 && lf == 0: // an editor may have left some of them
		return bytes.ReplaceAll(plain, []byte("\n"), []byte("\r"))
	case crlf > 0 && crlf == cr && crlf == lf && bytes.Count(plain, []byte("\r")) == 0:
		return bytes.ReplaceAll(plain, []byte("\n"), []byte("\r\n"))
	}
	return now
}
