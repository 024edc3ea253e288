package proof

// Kind is a kind of difference.
type Kind string

// The kinds of differences.
const (
	TextOnly      Kind = "text-only"
	RawSource     Kind = "raw-source"
	Doubled       Kind = "doubled"
	CutOff        Kind = "cut-off"
	PartMissing   Kind = "part-missing"
	WordsChanged  Kind = "words-changed"
	WordsAdded    Kind = "words-added"
	LinkUnderline Kind = "link-underline"
	LinkColour    Kind = "link-colour"
	LinkLost      Kind = "link-lost"
	LinkChanged   Kind = "link-changed"
	LinkAdded     Kind = "link-added"
	Font          Kind = "font"
	Size          Kind = "size"
	Colour        Kind = "colour"
	Weight        Kind = "weight"
	Background    Kind = "background"
	Direction     Kind = "direction"
	LinesJoined   Kind = "lines-joined"
	LayoutLost    Kind = "layout-lost"
	PictureLost   Kind = "picture-lost"
	PictureSize   Kind = "picture-size"
	PictureLocal  Kind = "picture-local"
	PictureOther  Kind = "picture-other"
)

// Sort is what a kind of difference means: what people see, by whom it was probably done, and what to do.
type Sort struct {
	Kind     Kind   `json:"kind"`
	Title    string `json:"title"`
	By       string `json:"by"`
	Do       string `json:"do"`
	Harmless bool   `json:"harmless"` // programs do it while they show a message; nothing is lost
}

var sorts = []Sort{
	{TextOnly, "It is plain text now: without colours, links and pictures.",
		"the program writes messages as plain text, or it was pasted as text",
		"Paste it again with the ordinary paste, not as text, and set new messages to HTML in the program's settings.", false},
	{RawSource, "The markup itself shows in place of the signature.", "source was pasted into a box that wants a rendered copy",
		"Empty the box, copy with the button of the page and not from the source, and paste again.", false},
	{Doubled, "It stands there twice.", "pasted below what stood there already, or added by two programs",
		"Empty the box before pasting. If it stands there once in the box and twice in messages, another program or the mail server adds it too.", false},
	{CutOff, "The end is missing.", "the box's limit, or not everything was copied",
		"Copy with the button; if the box refuses the length, take the shorter form.", false},
	{PartMissing, "Something in it is missing.", "it was deleted by hand, or not everything was copied", "Empty the box and paste again.", false},
	{WordsChanged, "Other words stand in it.", "it was changed by hand", "If your details are wrong, change them under My details; then paste again.", false},
	{WordsAdded, "Words were added to it.", "it was changed by hand, or a program added a line of its own",
		"Delete what was added, or empty the box and paste again.", false},
	{LinkUnderline, "Links are underlined that should not be.", "the program or the browser that copied",
		"Copy with the button in the browser that is named there, and paste again.", false},
	{LinkColour, "Links have another colour, often blue.", "the program, or the browser that copied",
		"Copy with the button in the browser that is named there, and paste again.", false},
	{LinkLost, "Something that was a link is none any more.", "the program took it away, or it was typed anew", "Paste again.", false},
	{LinkChanged, "A link leads somewhere else.", "it was changed by hand, or a program put its own address before it", "Paste again.", false},
	{LinkAdded, "A number or an address has become a link.", "the program makes links of what looks like an address", "Nothing: it does no harm.", true},
	{Font, "The font is another.", "the program's own font, or pasted without formatting", "Paste again with the ordinary paste, which keeps the formatting.", false},
	{Size, "Letters have another size.", "the program's own size, or pasted without formatting",
		"Paste again with the ordinary paste, which keeps the formatting.", false},
	{Colour, "Text has another colour.", "the program's own colour, or pasted without formatting",
		"Paste again with the ordinary paste, which keeps the formatting.", false},
	{Weight, "Bold or italic letters are not as they were.", "pasted without formatting, or changed by hand",
		"Paste again with the ordinary paste, which keeps the formatting.", false},
	{Background, "The colour behind the text is gone, or another.", "the program", "Paste again; if it is gone again, tell whoever sent you here.", false},
	{Direction, "The text runs in the other direction.", "the program", "Set the direction of the box to that of your language, and paste again.", false},
	{LinesJoined, "Lines run into each other.", "pasted as text, or the program took line breaks away", "Paste again with the ordinary paste.", false},
	{LayoutLost, "What stood side by side stands one below the other.", "the program took the table away",
		"Paste again with the ordinary paste, into the box of the signature itself.", false},
	{PictureLost, "A picture is missing.", "the program refused it, or it was not loaded when it was copied",
		"Wait until the page shows all pictures, copy again and paste.", false},
	{PictureSize, "A picture has another size.", "the program or the browser that copied", "Copy with the button in the browser that is named there.", false},
	{PictureLocal, "A picture lies on your own machine: nobody else sees it.", "it was copied from a file or another message",
		"Copy with the button of the page, not from a message.", false},
	{PictureOther, "Another picture stands there.", "it was changed by hand, or is of an older signature", "Paste again.", false},
}

// Kinds lists the kinds of differences.
func Kinds() []Sort { return append([]Sort(nil), sorts...) }

// About says what a kind means.
func (k Kind) About() Sort {
	for _, s := range sorts {
		if s.Kind == k {
			return s
		}
	}
	return Sort{Kind: k}
}

// Harmless reports whether nothing is to be done about differences of a kind.
func (k Kind) Harmless() bool { return k.About().Harmless }
