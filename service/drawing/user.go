package drawing

import "os"

// newFolder makes a folder of the account that programs run as.
func newFolder() (string, error) {
	folder, err := os.MkdirTemp("", "missivum-drawing-")
	if err != nil {
		return "", err
	}
	return folder, handOver(folder)
}

// writeFor writes a file that the account can read.
func writeFor(name, text string) error {
	if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
		return err
	}
	return handOver(name)
}
