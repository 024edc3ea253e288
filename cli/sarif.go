package cli

import (
	"io"
	"path/filepath"
	"unicode/utf8"

	sarif "github.com/owenrumney/go-sarif/v3/pkg/report/v210/sarif"

	"missivum/core/check"
	"missivum/core/client"
)

// writeSARIF writes a report in the Static Analysis Results Interchange Format, version 2.1.0. Columns count
// characters; accepted findings are suppressed ones, fixes are fixes.
func writeSARIF(w io.Writer, l loaded, r *check.Report) error {
	run := sarif.NewRunWithInformationURI("Missivum", "https://missivum.example/")
	columns := "unicodeCodePoints"
	run.ColumnKind = &columns
	run.Tool.Driver.Version = &Version
	uri := filepath.ToSlash(l.source)
	for _, list := range [][]check.Finding{r.Findings, r.Accepted} {
		for _, f := range list {
			rule := run.AddRule(f.Check)
			if c := check.Find(f.Check); c != nil {
				rule.WithShortDescription(multiformat(c.Title)).WithFullDescription(multiformat(c.Why)).WithHelp(multiformat(c.Remedy))
			}
			result := run.CreateResultForRule(f.Check).WithLevel(sarifLevel(f.Severity)).WithMessage(sarif.NewTextMessage(f.Message))
			result.RuleIndex = run.GetRuleIndex(f.Check)
			result.AddLocation(sarif.NewLocationWithPhysicalLocation(sarif.NewPhysicalLocation().
				WithArtifactLocation(sarif.NewSimpleArtifactLocation(uri)).WithRegion(region(l.template.Source, f.Offset, f.End))))
			properties := sarif.NewPropertyBag()
			properties.Add("clients", f.Clients)
			if f.Basis != "" {
				properties.Add("basis", string(f.Basis))
			}
			result.WithProperties(properties)
			if f.Fix != nil {
				result.AddFixe(sarifFix(l.template.Source, uri, f.Fix))
			}
			if f.Accepted != "" {
				result.AddSuppression(sarif.NewSuppression().WithKind("inSource").WithJustification(f.Accepted))
			}
			if result.Rank < 0 {
				result.Rank = -1
			}
		}
	}
	report := sarif.NewReport()
	report.Schema = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
	report.AddRun(run)
	return report.PrettyWrite(w)
}

// multiformat is a text as SARIF wants it.
func multiformat(text string) *sarif.MultiformatMessageString {
	return sarif.NewMultiformatMessageString().WithText(text)
}

// sarifLevel is a severity in SARIF's words (SARIF 2.1.0, 3.27.10).
func sarifLevel(s client.Severity) string {
	switch s {
	case client.Breaks:
		return "error"
	case client.Degrades:
		return "warning"
	}
	return "note"
}

// region gives the lines and columns of a range of bytes, both from 1; the end lies behind the last character.
func region(source string, start, end int) *sarif.Region {
	line, column := lineAndColumn(source, start)
	endLine, endColumn := lineAndColumn(source, max(end, start))
	return sarif.NewRegion().WithStartLine(line).WithStartColumn(column).WithEndLine(endLine).WithEndColumn(endColumn)
}

// lineAndColumn gives a place as SARIF counts it: from 1, in UTF-16 units (SARIF 2.1.0, 3.30).
func lineAndColumn(source string, offset int) (line, column int) {
	offset = min(max(offset, 0), len(source))
	line, begins := 1, 0
	for i := range offset {
		if source[i] == '\n' {
			line, begins = line+1, i+1
		}
	}
	return line, utf8.RuneCountInString(source[begins:offset]) + 1
}

// sarifFix is a fix as replacements of text (SARIF 2.1.0, 3.55).
func sarifFix(source, uri string, m *check.Fix) *sarif.Fix {
	change := sarif.NewArtifactChange().WithArtifactLocation(sarif.NewSimpleArtifactLocation(uri))
	for _, e := range m.Edits {
		change.AddReplacement(sarif.NewReplacement().WithDeletedRegion(region(source, e.Start,
			e.End)).WithInsertedContent(sarif.NewArtifactContent().WithText(e.Text)))
	}
	return sarif.NewFix().WithDescription(sarif.NewTextMessage(m.Title)).AddArtifactChange(change)
}
