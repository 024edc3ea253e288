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

// Cause is by whom a difference was probably made.
type Cause string

// The causes.
const (
	ByProgram   Cause = "program"
	ByHand      Cause = "hand"
	Copying     Cause = "copying"
	AsText      Cause = "as-text"
	SourcePaste Cause = "source"
	Two         Cause = "two"
	Limit       Cause = "limit"
)

var causes = map[Cause]string{
	ByProgram: "the program", ByHand: "changed by hand, or not everything was copied", Copying: "the browser that copied, or the program",
	AsText: "pasted as text or without formatting, or the program", SourcePaste: "source was pasted into a box that wants a rendered copy",
	Two: "pasted below what stood there already, or added by two programs", Limit: "the box's limit, or not everything was copied",
}

// Step is what helps.
type Step string

// The steps.
const (
	Again       Step = "again"
	Formatted   Step = "formatted"
	Button      Step = "button"
	EmptyBox    Step = "empty-box"
	Shorter     Step = "shorter"
	Details     Step = "details"
	SetHTML     Step = "set-html"
	TurnBox     Step = "turn-box"
	AllPictures Step = "all-pictures"
	Nothing     Step = "nothing"
)

var steps = map[Step]string{
	Again: "Copy it again and paste it again.", Formatted: "Paste again with the ordinary paste, which keeps the formatting.",
	Button: "Copy with the button of the page, in the kind of browser that it names, and paste again.",
	EmptyBox: "Empty the box, copy with the button of the page, and paste once. If it stands there once in the box and twice in messages, " +
		"another program adds it too: tell whoever sent you here.",
	Shorter:     "Copy with the button; if the box refuses the length, take the shorter form.",
	Details:     "If your details are wrong, change them under My details; then copy and paste again.",
	SetHTML:     "Set new messages to HTML in the program's settings, and paste again with the ordinary paste.",
	TurnBox:     "Set the direction of the box to that of your language, and paste again.",
	AllPictures: "Wait until the page shows all pictures, copy again and paste.",
	Nothing:     "Nothing: it does no harm.",
}

// Sort is what a kind of difference means: what people see, by whom it was probably made, and what helps.
type Sort struct {
	Kind  Kind   `json:"kind"`
	Title string `json:"title"`
	Cause Cause  `json:"cause"`
	By    string `json:"by"` // the cause in words
	Step  Step   `json:"step"`
	Do    string `json:"do"` // the step in words
}

var sorts = []Sort{
	sortOf(TextOnly, "It is plain text now: without colours, links and pictures.", AsText, SetHTML),
	sortOf(RawSource, "The markup itself shows in place of the signature.", SourcePaste, EmptyBox),
	sortOf(Doubled, "It stands there twice.", Two, EmptyBox),
	sortOf(CutOff, "The end is missing.", Limit, Shorter),
	sortOf(PartMissing, "Something in it is missing.", ByHand, EmptyBox),
	sortOf(WordsChanged, "Other words stand in it.", ByHand, Details),
	sortOf(WordsAdded, "Words were added to it.", ByHand, EmptyBox),
	sortOf(LinkUnderline, "Links are underlined that should not be.", Copying, Button),
	sortOf(LinkColour, "Links have another colour, often blue.", Copying, Button),
	sortOf(LinkLost, "Something that was a link is none any more.", ByHand, Again),
	sortOf(LinkChanged, "A link leads somewhere else.", ByHand, Again),
	sortOf(LinkAdded, "A number or an address has become a link.", ByProgram, Nothing),
	sortOf(Font, "The font is another.", AsText, Formatted),
	sortOf(Size, "Letters have another size.", AsText, Formatted),
	sortOf(Colour, "Text has another colour.", AsText, Formatted),
	sortOf(Weight, "Bold or italic letters are not as they were.", AsText, Formatted),
	sortOf(Background, "The colour behind the text is gone, or another.", ByProgram, Again),
	sortOf(Direction, "The text runs in the other direction.", ByProgram, TurnBox),
	sortOf(LinesJoined, "Lines run into each other.", AsText, Formatted),
	sortOf(LayoutLost, "What stood side by side stands one below the other.", ByProgram, Formatted),
	sortOf(PictureLost, "A picture is missing.", ByProgram, AllPictures),
	sortOf(PictureSize, "A picture has another size.", Copying, Button),
	sortOf(PictureLocal, "A picture lies on your own machine: nobody else sees it.", Copying, Button),
	sortOf(PictureOther, "Another picture stands there.", ByHand, Again),
}

func sortOf(kind Kind, title string, cause Cause, step Step) Sort {
	return Sort{kind, title, cause, causes[cause], step, steps[step]}
}

// Sorts lists what the kinds of differences mean.
func Sorts() []Sort { return append([]Sort(nil), sorts...) }

// About says what a kind means.
func (k Kind) About() Sort {
	for _, s := range sorts {
		if s.Kind == k {
			return s
		}
	}
	return Sort{Kind: k}
}

// Harmless reports whether nothing is to be done about differences of a kind: programs make them while they show a message.
func (k Kind) Harmless() bool { return k.About().Step == Nothing }
