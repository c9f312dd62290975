package message

// Token is a piece of a document as people see it, with what it stands for.
type Token struct {
	Text string `json:"text"`
	Kind string `json:"kind"` // name, attribute, value, comment or mark
	// Pointer is the JSON Pointer of the value in the document's tree, and
	// Expression what reads it where a pointer does not; "" where there is none.
	Pointer    string `json:"pointer,omitempty"`
	Expression string `json:"expression,omitempty"`
	Title      string `json:"title,omitempty"`   // what it is called, where its format says so
	Meaning    string `json:"meaning,omitempty"` // of a code
}

// Line is a line of a document as people see it.
type Line struct {
	Indent int     `json:"indent"`
	Tokens []Token `json:"tokens"`
}

// The kinds of token.
const (
	TokenName      = "name"
	TokenAttribute = "attribute"
	TokenValue     = "value"
	TokenComment   = "comment"
	TokenMark      = "mark"
)
