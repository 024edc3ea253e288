package kit

import (
	"fmt"
	"slices"
	"strings"

	"missivum/core/client"
)

// Steps are what somebody does with a kit of a way, in order, and how they see that it worked. Names of files are those of
// the kit.
type Steps struct {
	Install []string `json:"install"`
	Proof   []string `json:"proof"`
}

// Steps gives the steps of a kit.
func (k List) Steps() Steps {
	way, _ := client.FindWay(k.Way)
	page, others := k.first("html", "mime", "text"), k.names()
	choose := k.choose()
	s := Steps{Proof: []string{
		"Begin a new message to yourself: the signature stands there. Send it, open it where it arrives, and look " +
			"for the name, the links and the pictures.",
		"Answer that message: look whether the signature of replies stands above the quoted text.",
	}}
	switch k.Way {
	case client.FileSet:
		s.Install = append([]string{
			"Close the mail client. While it is open it holds its signature files, and may write its own over them when it ends.",
			fmt.Sprintf("Copy %s into the client's folder of signatures. They belong together: keep the names as they are.", others),
		}, choose...)
		s.Install = append(s.Install, "Close message windows that were open before: they go on showing the old signature.")
	case client.WrappedFile:
		s.Install = []string{
			"In the mail client, make a signature and type a word into it by which its file can be found, such as " +
				"brackwater-new. Choose it for the account.",
			"Close the mail client.",
			fmt.Sprintf("In the client's folder of signatures, find the file in which that word stands. Replace "+
				"what stands below its first blank line by what "+
				"stands below the first blank line of %s. The header lines above stay as they are.", page),
			"Make the file read-only, or the client writes its own version over it when it starts.",
			"Start the client. In its list the signature may look empty or without pictures; what counts is a new message.",
		}
	case client.PageFile:
		s.Install = []string{
			fmt.Sprintf("Copy %s into a folder where it can stay.", others),
			fmt.Sprintf("In the settings of the mail account, switch on that the signature comes from a file, and choose %s.", page),
			"In the same settings, switch the signature on for replies, and choose that it stands above the quoted text.",
			"Message windows that were open before go on showing the old signature: close them.",
		}
	case client.PasteRender:
		s.Install = []string{
			fmt.Sprintf("Open %s in a browser and press its button that copies the signature. Do not copy from a "+
				"received message: that brings more along.", page),
			"In the mail client's settings, open the box for the signature, empty it, and paste. If raw code shows, " +
				"the box wants it rendered: copy with the button and not from the page's source.",
			"Save. If the client says that the signature is too long, tell whoever sent you this page which number it names.",
			"Choose the signature for new messages and, in a box of its own, for replies.",
		}
	case client.PasteSource:
		s.Install = []string{
			fmt.Sprintf("Open %s in a text editor, select everything and copy it.", page),
			"In the mail client's settings, switch the box for the signature to source (its button may be called HTML or < >), empty it, and paste.",
			"Switch back, or save and look: if raw code shows, the box was not switched to source.",
		}
	case client.PictureLink:
		s.Install = []string{
			fmt.Sprintf("Upload %s, and open its address in a browser: the picture shows, and nothing around it.", k.first(pictureForm)),
			fmt.Sprintf("In the settings of the mail client or system, find the box for the picture of the "+
				"signature. Give it address, link and alternative text from %s, one by one.",
				k.first("text")),
			fmt.Sprintf("If the box takes markup after all, paste what stands in %s.", k.first("html")),
		}
	case client.Draft:
		s.Install = []string{
			fmt.Sprintf("Open %s: it opens as a message that was not sent yet.", page),
			"Select everything in it, copy, and paste it into the box for the signature in the client's settings.",
			"Close the draft without sending it.",
		}
	}
	if way.Places {
		s.Proof = append(s.Proof,
			"Start the client again and look once more: a signature that the client wrote over was not read-only, or the client was open.")
	}
	return s
}

// choose says which signature is chosen for what.
func (k List) choose() []string {
	var parts []string
	for _, situation := range []string{"new", "reply"} {
		what := map[string]string{"new": "new messages", "reply": "replies and forwards"}[situation]
		switch base, there := k.Use[situation]; {
		case there && base == "":
			parts = append(parts, "none for "+what)
		case there:
			parts = append(parts, base+" for "+what)
		}
	}
	if len(parts) == 0 {
		return nil
	}
	return []string{"Start the client and choose in its settings: " + strings.Join(parts, ", and ") + "."}
}

// first is the name of the first file in one of the forms, or of the first at all.
func (k List) first(forms ...string) string {
	for _, f := range k.Files {
		if slices.Contains(forms, f.Form) {
			return f.File
		}
	}
	if len(k.Files) > 0 {
		return k.Files[0].File
	}
	return "the file"
}

// names lists the files and folders of the kit, for a sentence.
func (k List) names() string {
	var names []string
	for _, f := range k.Files {
		name := f.File
		if folder, _, below := strings.Cut(name, "/"); below {
			name = "the folder " + folder
		}
		if !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	if len(names) < 2 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
}
