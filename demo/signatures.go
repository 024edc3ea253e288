package demo

import (
	"embed"
	"fmt"
	"path"
	"regexp"
	"strings"
)

//go:embed signatures/*.txt
var signatureFiles embed.FS

// Signature is one of the corpus of signatures that were written by hand, with what the checks are to find in it.
type Signature struct {
	Style, Name, Why, Source string
	Expected                 []Expected
}

// Expected is a check that is to report something at a line.
type Expected struct {
	Line  int // from 1
	Check string
}

var expectation = regexp.MustCompile(`\s*⟦([^⟧]*)⟧\s*$`)

// Signatures gives the corpus. In its files a signature is "== name", "why: ...", "--" and the source, whose lines end with what is to be
// found there, in ⟦ ⟧.
func Signatures() ([]Signature, error) {
	files, err := signatureFiles.ReadDir("signatures")
	if err != nil {
		return nil, err
	}
	var list []Signature
	for _, file := range files {
		data, err := signatureFiles.ReadFile(path.Join("signatures", file.Name()))
		if err != nil {
			return nil, err
		}
		for _, part := range strings.Split(string(data), "\n== ")[1:] {
			head, source, ok := strings.Cut(part, "\n--\n")
			name, why, _ := strings.Cut(head, "\n")
			if !ok || !strings.HasPrefix(why, "why: ") {
				return nil, fmt.Errorf("%s: %q has no why or no source", file.Name(), name)
			}
			s := Signature{Style: strings.TrimSuffix(file.Name(), ".txt"), Name: name, Why: strings.TrimPrefix(why, "why: ")}
			lines := strings.Split(strings.TrimRight(source, "\n"), "\n")
			for i, line := range lines {
				if m := expectation.FindStringSubmatch(line); m != nil {
					lines[i] = expectation.ReplaceAllString(line, "")
					for _, id := range strings.Fields(m[1]) {
						s.Expected = append(s.Expected, Expected{i + 1, id})
					}
				}
			}
			s.Source = strings.Join(lines, "\n") + "\n"
			list = append(list, s)
		}
	}
	return list, nil
}
