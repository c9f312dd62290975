package catalog

import (
	"context"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"

	"readyferry/core/access"
	"readyferry/store"
)

// secondSetting is the setting that holds the areas in which publishing needs a second person.
const secondSetting = "second person"

var area = regexp.MustCompile(`^([a-z0-9][a-z0-9-]{0,59}|\*)$`)

// SecondPerson lists the areas in which publishing needs a second person; * stands for all there is.
func (c *Catalog) SecondPerson() ([]string, error) {
	text, err := c.store.Setting(secondSetting)
	out := []string{}
	if err == nil && text != "" {
		err = json.Unmarshal([]byte(text), &out)
	}
	if err != nil {
		return nil, fmt.Errorf("the areas in which publishing needs a second person: %w", err)
	}
	return out, nil
}

// AreaError is what a word gets that is no area.
type AreaError struct{ Word string }

func (e *AreaError) Error() string {
	return fmt.Sprintf("%q is no area; areas have small letters, digits and hyphens, and %s stands for all there is",
		e.Word,
		access.Everywhere)
}

// SetSecondPerson replaces the list.
func (c *Catalog) SetSecondPerson(ctx context.Context, areas []string) error {
	for _, a := range areas {
		if !area.MatchString(a) {
			return &AreaError{a}
		}
	}
	b, err := json.Marshal(areas)
	if err != nil {
		return err
	}
	return c.store.Write(ctx, func(tx *store.Tx) error { return tx.SetSetting(secondSetting, string(b)) })
}

// NeedsSecond tells whether publishing a flow needs a second person: in the area that it is
// in, or in that which its draft would move it to.
func (c *Catalog) NeedsSecond(name, draftArea string) (bool, error) {
	all, err := c.SecondPerson()
	if err != nil || len(all) == 0 {
		return false, err
	}
	return slices.Contains(all, access.Everywhere) || slices.Contains(all, draftArea) ||
		slices.Contains(all, c.Thing(access.Flow, name).Area), nil
}
