package rig

import (
	"archive/zip"
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"

	"github.com/chromedp/chromedp"
)

// UnpackAddOn fetches the add-on of a service and unpacks it into a folder.
func UnpackAddOn(address, folder string) error {
	answer, err := http.Get(address + "/api/v1/add-on/add-on.zip")
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(answer.Body)
	if err != nil || answer.StatusCode != http.StatusOK {
		return fmt.Errorf("fetching the add-on: %s %s %w", answer.Status, data, err)
	}
	archive, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return err
	}
	return os.CopyFS(folder, archive)
}

// BrowserWithAddOn starts Chromium with an unpacked add-on.
func BrowserWithAddOn(ctx context.Context, folder string, width, height int) (context.Context, context.CancelFunc, error) {
	whole, err := filepath.Abs(folder)
	if err != nil {
		return nil, nil, err
	}
	tab, stop := Browser(ctx, width, height, chromedp.Flag("disable-extensions", false), chromedp.Flag("load-extension", whole),
		chromedp.Flag("disable-extensions-except", whole), chromedp.Flag("lang", "en-US"))
	return tab, stop, nil
}
