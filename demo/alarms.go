package demo

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	core "readyferry/core/alarm"
	"readyferry/engine"
	"readyferry/engine/alarm"
)

// loadCalendars adds the calendars that are not there yet.
func loadCalendars(ctx context.Context, e *engine.Engine) error {
	// What is left out comes before what leaves it out.
	for _, c := range []alarm.Calendar{
		{Name: "holidays", Title: "Closed days"},
		{Name: "opening-hours", Title: "Opening hours of the branches", Except: "holidays"},
		{Name: "catalogue-nights", Title: "Nights on which the catalogue is moved"},
	} {
		text, err := files.ReadFile("calendars/" + c.Name + ".ics")
		if err != nil {
			return err
		}
		c.Zone, c.Text = "Europe/Dublin", string(text)
		create := int64(0)
		if _, err := e.Alarm.SaveCalendar(ctx, &c, &create); err != nil && !errors.Is(err, engine.ErrConflict) {
			return fmt.Errorf("calendar %s: %w", c.Name, err)
		}
	}
	return nil
}

// loadAlarms adds the rules that are not there yet.
func loadAlarms(ctx context.Context, e *engine.Engine) error {
	return each("alarms", func(name string, b []byte) error {
		var r core.Rule
		if err := json.Unmarshal(b, &r); err != nil {
			return err
		}
		create := int64(0)
		if _, err := e.Alarm.SaveRule(ctx, name, &r, &create); err != nil && !errors.Is(err, engine.ErrConflict) {
			return fmt.Errorf("alarm %s: %w", name, err)
		}
		return nil
	})
}
