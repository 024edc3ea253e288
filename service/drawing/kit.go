package drawing

import (
	"context"

	"missivum/core/kit"
	"missivum/core/person"
)

// widestKit is how wide a signature is drawn at most that becomes one picture, in px.
const widestKit = 640

// Kit makes a person's kit of the way picture-and-link: the signature is drawn as one picture.
func Kit(ctx context.Context, in kit.Input, c kit.Choice, who *person.Person) (kit.Kit, error) {
	if c.Template == "" {
		return kit.Without(in, who), nil
	}
	shot, err := kit.ShotOf(in, c, who)
	if err != nil {
		return kit.Kit{}, err
	}
	data, width, height, err := Signature(ctx, shot.Page, widestKit)
	if err != nil {
		return kit.Kit{}, err
	}
	return kit.OfPicture(in, c, who, shot, data, width, height)
}
