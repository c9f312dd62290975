package flow

import (
	"errors"
	"regexp"

	"github.com/goccy/go-yaml"
)

// plainYAML are the parser's words with what they mean to who writes a document, and
// what to do next. What is not here is said as the parser says it.
var plainYAML = []struct {
	said          *regexp.Regexp
	means, repair string
}{
	{regexp.MustCompile(`map key-value is pre-defined`), "a second value stands behind the value of this line",
		"write each key on a line of its own, with its value behind it"},
	{regexp.MustCompile(`mapping value is not allowed|value is not allowed in this context`),
		"a value stands where none can be", "check how far the lines are set in, and put a text with a colon in quotes"},
	{regexp.MustCompile(`non-map value is specified`), "a plain value stands where key: value is expected",
		"check how far the line is set in, and that a colon and a blank stand behind each key"},
	{regexp.MustCompile(`unexpected key name|expected map key-value delimiter|undefined map key|cannot take map-key|` +
		`found an invalid key|unexpected map key|unexpected token. required string`),
		"this is no key", "write a name, a colon and a blank"},
	{regexp.MustCompile(`implicit line break|could not find value for mapping key|could not find map value`),
		"the value behind the key is missing", "write it behind the colon, or below it and further in"},
	{regexp.MustCompile(`',' or '\]' must be|sequence end token|corresponding to '\]'`),
		"the list in brackets is not closed", "add ] behind its last item, and a comma between items"},
	{regexp.MustCompile(`',' or '}' must be|flow mapping end token|corresponding to '}'|flow map content`),
		"the map in braces is not closed", "add } behind its last value, and a comma between values"},
	{regexp.MustCompile(`block sequence entries are not allowed|expected sequence element`),
		"a list stands where none can be", "check how far the line with the hyphen is set in"},
	{regexp.MustCompile(`could not find end character of`), "the text in quotes is not closed", "add the quote at its end"},
	{regexp.MustCompile(`alias|anchor`), "this reference (&, *) leads nowhere", "write the value itself"},
	{regexp.MustCompile(`mapping key "(.*)" already defined`), "the key \"$1\" stands twice in one map",
		"take one of the two out"},
	{regexp.MustCompile(`found a tab|tab character|found character '\t' that`), "a tab stands where blanks are expected", "set lines in with blanks"},
}

// yamlError gives an error of the parser as a finding.
func yamlError(err error) *Finding {
	var e yaml.Error
	line, column, said := 1, 1, err.Error()
	if errors.As(err, &e) && e.GetToken() != nil {
		at := e.GetToken().Position
		line, column, said = at.Line, at.Column, e.GetMessage()
	}
	for _, p := range plainYAML {
		if found := p.said.FindString(said); found != "" {
			return syntax(line, column, "this is no valid YAML: "+p.said.ReplaceAllString(found, p.means), p.repair)
		}
	}
	return syntax(line, column, "this is no valid YAML: "+said, "")
}
