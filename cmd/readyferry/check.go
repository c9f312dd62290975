package main

import (
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"readyferry/core/flow"
	"readyferry/core/plan"
	"readyferry/core/run"
	"readyferry/engine/catalog"
)

// found is a finding and the document that it is in.
type found struct {
	File string `json:"file"`
	flow.Finding
}

// checking is what check has been asked to look at.
type checking struct {
	json, coverage        bool
	samples, junit, group string
	configured
}

func checkCommand() *cobra.Command {
	var o checking
	c := &cobra.Command{
		Use: "check FLOW…", Short: "Report what is wrong with flow documents, and whether samples come to what is expected",
		Args: cobra.MinimumNArgs(1),
		Long: "Reports findings of flow documents with line, column and repair.\nExits with 0 without errors, 1 with " +
			"errors, 2 when a document could not be read.\n\nWith --samples FOLDER the samples of each flow are " +
			"rehearsed: the files *.json in the folder of its name\nthere, or in FOLDER itself. One that does not come to " +
			"what it says is expected counts as an error. --junit writes\nthem as JUnit does, for those who watch builds; " +
			"--coverage tells which steps, ways and elses no sample reaches.",
		RunE: func(c *cobra.Command, args []string) error { return o.run(c.OutOrStdout(), args) },
	}
	o.flags(c.Flags())
	c.Flags().BoolVar(&o.json, "json", false, "print JSON")
	c.Flags().StringVar(&o.samples, "samples", "", "rehearse the samples in this folder")
	c.Flags().
		StringVar(&o.junit, "junit", "", "write what the samples came to into this file, as JUnit does; - for the standard output")
	c.Flags().StringVar(&o.group, "group", "", "rehearse the samples of this group alone")
	c.Flags().BoolVar(&o.coverage, "coverage", false, "tell what no sample reaches")
	return c
}

func (o *checking) run(out io.Writer, files []string) error {
	if o.samples == "" && (o.coverage || o.junit != "" || o.group != "") {
		return errors.New("--coverage, --junit and --group need --samples FOLDER")
	}
	r, err := reader(&o.configured)
	if err != nil {
		return err
	}
	rows, suites, failed := []found{}, []suite{}, false
	for _, file := range files {
		p, findings, err := readFlow(r, file, nil)
		if err != nil {
			return err
		}
		for _, f := range findings {
			rows = append(rows, found{file, f})
			failed = failed || f.Level == flow.Error
		}
		if o.samples == "" || p == nil || flow.HasErrors(findings) {
			continue
		}
		s, err := rehearsed(p, file, o.samples, o.group)
		if err != nil {
			return err
		}
		suites, failed = append(suites, s), failed || s.differing() > 0
	}
	if err := o.print(out, rows, suites); err != nil {
		return err
	}
	if failed {
		return &exitError{1, errors.New("")}
	}
	return nil
}

func (o *checking) print(out io.Writer, rows []found, suites []suite) error {
	if !o.coverage {
		for i := range suites {
			suites[i].Unreached = nil
		}
	}
	if o.junit == "-" {
		return writeJUnit(out, suites)
	}
	if o.junit != "" {
		f, err := os.Create(o.junit)
		if err != nil {
			return err
		}
		if err := errors.Join(writeJUnit(f, suites), f.Close()); err != nil {
			return err
		}
	}
	if o.json {
		all := map[string]any{"findings": rows}
		if o.samples != "" {
			all["flows"] = suites
		}
		return printJSON(out, all)
	}
	for _, r := range rows {
		fmt.Fprintf(out, "%s: %s, %s\n", r.File, r.Level, r.Finding.Error())
	}
	if len(rows) == 0 {
		fmt.Fprintln(out, "nothing to find fault with")
	}
	for i := range suites {
		suites[i].print(out)
	}
	return nil
}

// suite is what the samples of a flow came to.
type suite struct {
	Flow      string          `json:"flow"`
	File      string          `json:"file"`
	Samples   []sampled       `json:"samples"`
	Unreached []run.Unreached `json:"unreached,omitempty"` // what none of them comes to
}

type sampled struct {
	Name     string   `json:"name"`
	State    string   `json:"state"`
	Expected string   `json:"expected"` // as expected, differs, or none
	Breaks   []string `json:"breaks"`   // how it differs
}

func (s *suite) count(expected string) (n int) {
	for _, one := range s.Samples {
		if one.Expected == expected {
			n++
		}
	}
	return n
}

func (s *suite) differing() int { return s.count("differs") }

func (s *suite) print(out io.Writer) {
	for _, one := range s.Samples {
		for _, b := range one.Breaks {
			fmt.Fprintf(out, "%s: sample %s %s\n", s.File, one.Name, b)
		}
	}
	for _, u := range s.Unreached {
		fmt.Fprintf(out, "%s: no sample reaches %s\n", s.File, u.InWords())
	}
	fmt.Fprintf(out, "%s: %d samples, %d as expected, %d not, %d say nothing of it\n", s.File, len(s.Samples),
		s.count("as expected"), s.differing(), s.count("none"))
}

// rehearsed walks the samples of a flow, one after the other.
func rehearsed(p *plan.Plan, file, folder, group string) (suite, error) {
	s := suite{Flow: p.Document.Name, File: file, Samples: []sampled{}}
	samples, err := samplesIn(folder, s.Flow)
	if err != nil {
		return s, err
	}
	if group != "" {
		samples = slices.DeleteFunc(samples, func(one catalog.Sample) bool { return one.Group != group })
	}
	envelopes, options := make([]run.Envelope, len(samples)), make([]run.Options, len(samples))
	for i := range samples {
		envelopes[i] = samples[i].Envelope(s.Flow)
		options[i] = run.Options{Replies: catalog.Effects(samples[i].Replies), NoBodies: true}
	}
	all := run.RehearseAll(p, envelopes, options)
	for i := range all {
		one := sampled{samples[i].Name, all[i].State, "none", []string{}}
		if x := samples[i].Expect; x != nil {
			one.Expected = "as expected"
			if b := x.Breaks(&all[i]); len(b) > 0 {
				one.Expected, one.Breaks = "differs", b
			}
		}
		s.Samples = append(s.Samples, one)
	}
	s.Unreached = run.Coverage(p, all)
	return s, nil
}

// samplesIn reads the samples of a flow from a folder, in the order of their files' names.
func samplesIn(folder, name string) ([]catalog.Sample, error) {
	if own := filepath.Join(folder, name); isFolder(own) {
		folder = own
	}
	if !isFolder(folder) {
		return nil, fmt.Errorf("--samples %s is no folder", folder)
	}
	files, err := filepath.Glob(filepath.Join(folder, "*.json"))
	if err != nil {
		return nil, err
	}
	slices.Sort(files)
	out := make([]catalog.Sample, len(files))
	for i, file := range files {
		b, err := os.ReadFile(file)
		if err != nil {
			return nil, err
		}
		if err := json.Unmarshal(b, &out[i]); err != nil {
			return nil, fmt.Errorf("%s is no sample: %w", file, err)
		}
		if out[i].Name == "" {
			out[i].Name = strings.TrimSuffix(filepath.Base(file), ".json")
		}
	}
	return out, nil
}

func isFolder(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.IsDir()
}

// What builds read is the XML that JUnit's Ant task writes; there is no standard of it. The
// elements here are those that all readers know.
type junitSuites struct {
	XMLName xml.Name     `xml:"testsuites"`
	Suites  []junitSuite `xml:"testsuite"`
}

type junitSuite struct {
	Name     string      `xml:"name,attr"`
	Tests    int         `xml:"tests,attr"`
	Failures int         `xml:"failures,attr"`
	Skipped  int         `xml:"skipped,attr"`
	Cases    []junitCase `xml:"testcase"`
}

type junitCase struct {
	Name    string     `xml:"name,attr"`
	Class   string     `xml:"classname,attr"`
	Failure *junitWord `xml:"failure"`
	Skipped *junitWord `xml:"skipped"`
}

type junitWord struct {
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}

func writeJUnit(out io.Writer, suites []suite) error {
	var all junitSuites
	for i := range suites {
		s := &suites[i]
		j := junitSuite{Name: s.Flow, Tests: len(s.Samples), Failures: s.differing(), Skipped: s.count("none")}
		for _, one := range s.Samples {
			c := junitCase{Name: one.Name, Class: s.Flow}
			switch {
			case one.Expected == "differs":
				c.Failure = &junitWord{one.Breaks[0], strings.Join(one.Breaks, "\n")}
			case one.Expected == "none":
				c.Skipped = &junitWord{Message: "it says nothing of what is expected"}
			}
			j.Cases = append(j.Cases, c)
		}
		all.Suites = append(all.Suites, j)
	}
	b, err := xml.MarshalIndent(all, "", "  ")
	if err == nil {
		_, err = io.WriteString(out, xml.Header+string(b)+"\n")
	}
	return err
}
