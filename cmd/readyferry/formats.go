package main

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"unicode/utf8"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"readyferry/core/format"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

// formatFlags are the settings of a format, as flags.
type formatFlags struct {
	name, delimiter, quote, charset, root, lineEnd string
	header, noHeader, lenient                      bool
}

func (f *formatFlags) add(flags *pflag.FlagSet, otherwise string, reading bool) {
	flags.StringVar(&f.name, "format", otherwise, "format of the body: "+strings.Join(format.Names(), ", "))
	flags.StringVar(&f.delimiter, "delimiter", "", "CSV: what parts fields, a comma by default")
	flags.StringVar(&f.quote, "quote", "", `CSV: what stands around a field, " by default`)
	if reading {
		flags.BoolVar(&f.header, "header-row", false, "CSV: the first row names the members of the others")
		flags.StringVar(&f.charset, "charset", "", "character set of the bytes, such as utf-16, iso-8859-1 or windows-1252")
		flags.BoolVar(&f.lenient, "lenient", false, "CSV: take quotes that belong to nothing, and bytes that are no UTF-8")
		return
	}
	flags.StringVar(&f.root, "root", "", "XML: the element that a value without one is put into, root by default")
	flags.StringVar(&f.lineEnd, "line-end", "crlf", "CSV: crlf (RFC 4180) or lf")
	flags.BoolVar(&f.noHeader, "no-header-row", false, "CSV: write rows that are maps without their names")
}

func (f *formatFlags) layout() (message.Layout, error) {
	l := message.Layout{Header: f.header, NoHeader: f.noHeader, Charset: f.charset, Lenient: f.lenient, Root: f.root}
	for _, c := range []struct {
		flag, text string
		into       *rune
	}{{"--delimiter", f.delimiter, &l.Delimiter}, {"--quote", f.quote, &l.Quote}} {
		if c.text == "" {
			continue
		}
		r, size := utf8.DecodeRuneInString(strings.ReplaceAll(c.text, `\t`, "\t"))
		if size != len(strings.ReplaceAll(c.text, `\t`, "\t")) {
			return l, fmt.Errorf("%s must be one character, not %q", c.flag, c.text)
		}
		*c.into = r
	}
	switch f.lineEnd {
	case "", "crlf":
	case "lf":
		l.LineEnd = "\n"
	default:
		return l, fmt.Errorf("--line-end must be crlf or lf, not %q", f.lineEnd)
	}
	if _, known := format.Find(f.name); !known {
		return l, fmt.Errorf("--format must be one of %s, not %q", strings.Join(format.Names(), ", "), f.name)
	}
	return l, nil
}

func decodeCommand() *cobra.Command {
	var f formatFlags
	c := &cobra.Command{
		Use: "decode --format F FILE", Short: "Print a document's tree as JSON", Args: cobra.ExactArgs(1),
		Long: "Reads a document and prints its tree as JSON, numbers with their digits and bytes as base64.\nFILE may " +
			"be - for standard input. Exits with 1 when the document cannot be read.",
		RunE: func(c *cobra.Command, args []string) error {
			layout, err := f.layout()
			if err != nil {
				return err
			}
			src, err := readInput(c, args[0])
			if err != nil {
				return err
			}
			d, err := format.Decode(f.name, src, layout, format.Limits{})
			if err != nil {
				return &exitError{1, err}
			}
			for _, name := range d.Duplicates {
				fmt.Fprintf(
					c.ErrOrStderr(),
					"warning: the member %q stands twice in one map; the last one counts\n",
					name,
				)
			}
			fmt.Fprintln(c.OutOrStdout(), string(jsonfmt.Encode(d.Root)))
			return nil
		},
	}
	f.add(c.Flags(), format.JSON, true)
	c.Flags().Bool("json", true, "print JSON (always)")
	return c
}

func encodeCommand() *cobra.Command {
	var f formatFlags
	c := &cobra.Command{
		Use: "encode --format F FILE.json", Short: "Write a tree, given as JSON, in a format", Args: cobra.ExactArgs(1),
		Long: "Reads a tree as decode prints it and writes its bytes in the format.\nFILE.json may be - for standard " +
			"input. Exits with 1 when the format cannot hold the tree.",
		RunE: func(c *cobra.Command, args []string) error {
			layout, err := f.layout()
			if err != nil {
				return err
			}
			src, err := readInput(c, args[0])
			if err != nil {
				return err
			}
			tree, err := jsonfmt.Decode(src)
			if err != nil {
				return &exitError{1, err}
			}
			out, err := format.Encode(f.name, tree.Root, layout)
			if err != nil {
				return &exitError{1, err}
			}
			_, err = c.OutOrStdout().Write(out)
			return err
		},
	}
	f.add(c.Flags(), format.JSON, false)
	return c
}

// readMessage reads the body that eval works on.
func (f *formatFlags) readMessage(c *cobra.Command, file string) (format.Decoded, []byte, error) {
	layout, err := f.layout()
	if err != nil {
		return format.Decoded{}, nil, err
	}
	raw, err := readInput(c, file)
	if errors.Is(err, os.ErrNotExist) {
		return format.Decoded{}, nil, fmt.Errorf("--message: %w", err)
	}
	if err != nil {
		return format.Decoded{}, nil, err
	}
	d, err := format.Decode(f.name, raw, layout, format.Limits{})
	if err != nil {
		err = &exitError{1, err}
	}
	return d, raw, err
}
