package templates

import (
	"archive/zip"
	"bytes"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"missivum/core/problem"
	"missivum/core/template"
)

// maxArchive is the largest unpacked archive, in bytes.
const maxArchive = 64 << 20

// WriteArchive writes a template as a zip of its folder.
func WriteArchive(w io.Writer, t *template.Template) error { return WriteFiles(w, t.Files()) }

// WriteFiles writes files as a zip, sorted by name.
func WriteFiles(w io.Writer, files map[string][]byte) error {
	z := zip.NewWriter(w)
	for _, name := range slices.Sorted(maps.Keys(files)) {
		w, err := z.Create(name)
		if err != nil {
			return err
		}
		if _, err := w.Write(files[name]); err != nil {
			return err
		}
	}
	return z.Close()
}

// ReadArchive reads a zip of a template folder. Files that do not belong to a template are refused,
// and so is an archive that unpacks to more than 64 MB.
func ReadArchive(name string, data []byte) (*template.Template, error) {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return nil, problem.New(problem.Refused, "This is not a zip archive: %w", err)
	}
	var total uint64
	pictures, seen := 0, map[string]bool{}
	for _, f := range z.File {
		if f.UncompressedSize64 > maxArchive || total+f.UncompressedSize64 > maxArchive { // each is small: the sum cannot overflow
			return nil, problem.New(problem.TooLarge, "The archive unpacks to more than %d MB.", maxArchive>>20)
		}
		total += f.UncompressedSize64
		if seen[f.Name] {
			return nil, problem.New(problem.Refused, "The archive holds %q twice.", f.Name)
		}
		seen[f.Name] = true
		if path.Dir(f.Name) == template.PictureFolder {
			if pictures++; pictures > template.MaxPictures {
				return nil, problem.New(problem.TooLarge, "The archive holds more than %d pictures.", template.MaxPictures)
			}
		}
		_, text := template.TextFile(f.Name)
		known := text || f.Name == template.SourceFile || f.Name == template.SettingsFile || f.Name == template.PictureFolder+"/" ||
			path.Dir(f.Name) == template.PictureFolder && !strings.HasPrefix(path.Base(f.Name), ".")
		if !known || !fs.ValidPath(strings.TrimSuffix(f.Name, "/")) {
			return nil, problem.New(problem.Refused, "The archive holds %q, which is no part of a template.", f.Name)
		}
	}
	t, err := template.Open(z, name)
	return t, problem.As(problem.Refused, err)
}
