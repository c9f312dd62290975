package folder

import (
	"readyferry/connect"
	"readyferry/core/retry"
)

// The words for what a try comes to, besides those of the system itself.
const (
	CodeWritten = "written"
	CodeExists  = "exists"
	CodeNone    = "not there"
	CodeDenied  = "denied"
	CodeFull    = "full"
)

// Outcomes are what the help shows of a system with files; more are its own words.
func Outcomes(more ...connect.Meaning) []connect.Meaning {
	return append(append([]connect.Meaning{
		{Code: CodeWritten, Words: "the file is there, whole", Comes: string(retry.Delivered)},
		{
			Code:  CodeExists,
			Words: "a file of this name is there with something else in it, and the delivery refuses that",
			Comes: string(retry.Never),
		},
		{Code: CodeNone, Words: "the folder is not there", Comes: string(retry.Never)},
		{Code: CodeDenied, Words: "the user may not write there", Comes: string(retry.Never)},
		{Code: CodeFull, Words: "the disk or quota is full", Comes: string(retry.Again)},
		{Code: "", Words: "the name leaves the folder, or is none", Comes: connect.Comes(retry.Never, true)},
	}, more...), connect.InDoubt("the connection breaks off, nothing comes within the time limit"))
}

// Notes say what people should know of a system with files.
var Notes = []string{
	"A file is taken when its size and time have not changed for as long as the intake says, and moved, renamed or removed " +
		"behind the commit that stores it. One that comes again after a crash is told by its name, size and time; its lines " +
		"and records by their number, too.",
	"Headers: file-name, file-folder, file-size and file-modified say where a message comes from, file-record its number " +
		"in the file; content-type follows the name's ending.",
	"A file is written as " + ours + "….part and renamed when it is whole. A try that is made again finds what an earlier " +
		"one has written: a file of the same name with the same in it is delivered. What is written at the end of a file may " +
		"be there twice when the connection breaks off in the middle.",
	"Names from messages never leave the folder of the connection: those with dots in place of names, slashes or characters " +
		"that no name has are dead letters of class data. Links are not followed out of the folder. Names that begin with a " +
		"dot are not taken.",
}
