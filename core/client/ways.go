package client

import "slices"

// Way is a way of installing a signature, with what people should know before they choose it.
type Way struct {
	ID        string   `json:"id"`
	Title     string   `json:"title"`
	About     string   `json:"about"`
	Drawbacks []string `json:"drawbacks,omitempty"`
	Places    bool     `json:"places"`             // files go to a desk, where a program can place them
	Defaults  *Desk    `json:"defaults,omitempty"` // what holds for a way that places files where no profile says otherwise
}

// Desk says what a client wants on a desk.
type Desk struct {
	Files      []DeskFile `json:"files,omitempty"`      // siblings with one base name
	Pictures   string     `json:"pictures,omitempty"`   // beside, hosted or data
	Folder     string     `json:"folder,omitempty"`     // of the pictures that lie beside: * stands for the base name
	ReadOnly   bool       `json:"read-only,omitempty"`  // the files must be read-only, or the client writes over them
	Situations []string   `json:"situations,omitempty"` // that the client keeps apart; none: one signature for all
	Basis      Basis      `json:"basis"`
}

// DeskFile is one of the files that a client wants.
type DeskFile struct {
	Form    string `json:"form"`              // html, rtf, text or mime
	Ending  string `json:"ending"`            // with its full stop
	Charset string `json:"charset,omitempty"` // utf-8 (the usual one), utf-16le or ascii
	Mark    bool   `json:"mark,omitempty"`    // a byte order mark stands first
	Lines   string `json:"lines,omitempty"`   // crlf or lf; blank: as the form has them
	Bare    bool   `json:"bare,omitempty"`    // a text without its separator line (RFC 3676, 4.3), which the client writes itself
}

// The ways of installing.
const (
	FileSet     = "file-set"
	WrappedFile = "wrapped-file"
	PageFile    = "page-file"
	PasteRender = "paste-rendered"
	PasteSource = "paste-source"
	Draft       = "message-draft"
	PictureLink = "picture-and-link"
	AppendBlock = "append-block"
)

var ways = []Way{
	{ID: FileSet, Title: "File set", Places: true,
		About: "Page, rich text and text under one base name, one for each format in which a message can leave, with a folder of pictures.",
		Defaults: &Desk{Files: []DeskFile{{Form: "html", Ending: ".html"}, {Form: "rtf", Ending: ".rtf"}, {Form: "text", Ending: ".txt"}},
			Pictures: "beside", Folder: "*-pictures", Situations: []string{"new", "reply"}, Basis: Assumed}},
	{ID: WrappedFile, Title: "Wrapped file", Places: true,
		About: "A MIME part in a file of the client's own: the body is replaced, the header lines above it stay, and the file is read-only.",
		Drawbacks: []string{"The client must have made the file first: its header lines and its name are the client's own.",
			"Somebody who edits the signature in the client is refused, since the file is read-only."},
		Defaults: &Desk{Files: []DeskFile{{Form: "mime", Ending: ".mime"}}, Pictures: "hosted", ReadOnly: true, Basis: Assumed}},
	{ID: PageFile, Title: "Page file", Places: true,
		About:     "One file that a setting of the client points to.",
		Drawbacks: []string{"The file must stay where the setting points: once it is moved, messages go out without a signature."},
		Defaults: &Desk{Files: []DeskFile{{Form: "html", Ending: ".html"}}, Pictures: "hosted",
			Basis: Assumed}},
	{ID: PasteRender, Title: "Rendered copy",
		About: "A page from which the person copies the signature as it is shown, and pastes it into the box of the client's settings.",
		Drawbacks: []string{"The browser that copies writes every style out, so the stored signature is longer than its source.",
			"A copy stays as it is until somebody pastes a new one."}},
	{ID: PasteSource, Title: "Source",
		About: "The markup itself, which the person pastes into a box that takes source.",
		Drawbacks: []string{"Pasted into a box that takes rendered content, raw code shows in every message.",
			"A copy stays as it is until somebody pastes a new one."}},
	{ID: Draft, Title: "Message draft",
		About: "A draft that is opened in the client; the person copies the signature out of it, pictures and all.",
		Drawbacks: []string{"Some clients open it as a received message, from which copying brings their own markup.",
			"Pictures become part of the stored signature, and weigh on each message that is sent."}},
	{ID: PictureLink, Title: "Picture and link",
		About: "The whole signature as one hosted picture with its text as alternative text, and one link, for " +
			"boxes that take neither markup nor a rendered copy.",
		Drawbacks: []string{"Nothing of it can be selected, copied, searched or translated.",
			"There is one link for all of it: number and address cannot be clicked on their own.",
			"Where pictures are blocked, only the alternative text shows, and some clients cut that off.",
			"Filters count a message that is mostly a picture as more likely unwanted.",
			"In dark mode it stays a light box."}},
	{ID: AppendBlock, Title: "Host's block",
		About: "A block that the mail host appends to messages by a rule of its own, with the host's placeholders.",
		Drawbacks: []string{"The person does not see it while writing.",
			"Signed and encrypted messages cannot be changed, and go out without it.",
			"Placeholders have no way to leave out the line of a blank field."}},
}

// Ways lists the ways of installing.
func Ways() []Way { return slices.Clone(ways) }

// FindWay gives a way; false for one that nobody knows.
func FindWay(id string) (Way, bool) {
	i := slices.IndexFunc(ways, func(w Way) bool { return w.ID == id })
	if i < 0 {
		return Way{}, false
	}
	return ways[i], true
}

// WayIDs lists the ids of the ways.
func WayIDs() []string {
	var ids []string
	for _, w := range ways {
		ids = append(ids, w.ID)
	}
	return ids
}

// OnDesk is what the client wants on a desk: what the profile says, over what is usual for its way. Nil for a way that
// places no files.
func (i Installation) OnDesk() *Desk {
	way, _ := FindWay(i.Way)
	if way.Defaults == nil {
		return nil
	}
	desk := *way.Defaults
	if i.Desk == nil {
		return &desk
	}
	own := *i.Desk
	if len(own.Files) == 0 {
		own.Files = desk.Files
	}
	if own.Pictures == "" {
		own.Pictures = desk.Pictures
	}
	if own.Folder == "" {
		own.Folder = "*-pictures"
	}
	return &own
}
