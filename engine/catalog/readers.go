package catalog

import (
	"slices"

	"readyferry/core/flow"
	"readyferry/core/plan"
	"readyferry/core/step"
)

// Source is where a flow reads inside the application: a queue, or a
// subscription to a topic.
type Source struct{ Kind, Name, Subscription string }

// SourceOf gives what an intake reads; ok is false for one that others call.
func SourceOf(in *flow.Intake) (s Source, ok bool) {
	switch in.Kind {
	case "queue":
		return Source{Kind: in.Kind, Name: in.Queue}, true
	case "topic":
		return Source{in.Kind, in.Topic, in.Subscription}, true
	}
	return Source{}, false
}

// Channel is what readers are woken by and rates are kept under: a queue by its
// name, which has no slash, and a topic behind one.
func (s Source) Channel() string {
	if s.Kind == "topic" {
		return TopicChannel(s.Name)
	}
	return s.Name
}

// Key names a subscription among those of all topics.
func (s Source) Key() string { return s.Name + "/" + s.Subscription }

// TopicChannel is the channel of a topic.
func TopicChannel(topic string) string { return "topic/" + topic }

// SubscriptionChannel is where the rate of a subscription is kept.
func SubscriptionChannel(topic, subscription string) string {
	return "topic/" + topic + "/" + subscription
}

// planOf gives a flow's live plan, or with drafts that of its draft where it was
// never published; nil where there is none.
func planOf(f *Flow, drafts bool) *plan.Plan {
	if f.Live == nil && drafts {
		return f.Draft
	}
	return f.Live
}

// Readers names the flows that read a queue or topic, by its channel: those
// whose live version does, and with drafts those whose draft does.
func (c *Catalog) Readers(channel string, drafts bool) (out []string) {
	c.Each(func(f *Flow) {
		if p := planOf(f, drafts); p != nil {
			if s, ok := SourceOf(&p.Document.Intake); ok && s.Channel() == channel {
				out = append(out, f.Name)
			}
		}
	})
	slices.Sort(out)
	return out
}

// ReadOutside tells whether a live flow says that a queue is read from outside of the
// application.
func (c *Catalog) ReadOutside(queue string) (outside bool) {
	c.Each(func(f *Flow) {
		outside = outside || f.Live != nil && slices.ContainsFunc(f.Live.Uses, func(u step.Use) bool {
			return u.Kind == step.UseQueue && u.Name == queue && u.Outside
		})
	})
	return outside
}

// AsksBy names the live flows that wait for replies in a queue, and with drafts
// those whose draft does.
func (c *Catalog) AsksBy(queue string, drafts bool) (out []string) {
	c.Each(func(f *Flow) {
		if uses(planOf(f, drafts), step.UseReplies, queue) {
			out = append(out, f.Name)
		}
	})
	slices.Sort(out)
	return out
}

func uses(p *plan.Plan, kind, name string) bool {
	return p != nil && slices.ContainsFunc(p.Uses, func(u step.Use) bool { return u.Kind == kind && u.Name == name })
}

// UsedBy names the live flows that use a connection.
func (c *Catalog) UsedBy(connection string) []string {
	out := []string{}
	c.Each(func(f *Flow) {
		if uses(f.Live, step.UseConnection, connection) {
			out = append(out, f.Name)
		}
	})
	slices.Sort(out)
	return out
}

// QueueReaders lists the queues that live flows read, with the flows.
func (c *Catalog) QueueReaders() map[string][]string {
	return c.bySource("queue", func(s Source) string { return s.Name })
}

// TopicReaders lists the subscriptions that live flows read, by Key, with the
// flows.
func (c *Catalog) TopicReaders() map[string][]string {
	return c.bySource("topic", Source.Key)
}

func (c *Catalog) bySource(kind string, key func(Source) string) map[string][]string {
	out := map[string][]string{}
	c.Each(func(f *Flow) {
		if f.Live == nil {
			return
		}
		if s, ok := SourceOf(&f.Live.Document.Intake); ok && s.Kind == kind {
			out[key(s)] = append(out[key(s)], f.Name)
		}
	})
	for _, names := range out {
		slices.Sort(names)
	}
	return out
}

// ReplyQueues lists the queues in which live flows wait for replies, with the flows.
func (c *Catalog) ReplyQueues() map[string][]string {
	out := map[string][]string{}
	c.Each(func(f *Flow) {
		if f.Live == nil {
			return
		}
		for _, u := range f.Live.Uses {
			if u.Kind == step.UseReplies && !slices.Contains(out[u.Name], f.Name) {
				out[u.Name] = append(out[u.Name], f.Name)
			}
		}
	})
	for _, names := range out {
		slices.Sort(names)
	}
	return out
}

// TableUses names the flows that use a table: those whose live version does,
// and those whose draft does.
func (c *Catalog) TableUses(name string) (live, drafts []string) {
	uses := func(p *plan.Plan) bool {
		return p != nil && !p.HasTable(name) &&
			slices.ContainsFunc(p.Uses, func(u step.Use) bool { return u.Kind == step.UseTable && u.Name == name })
	}
	live, drafts = []string{}, []string{}
	c.Each(func(f *Flow) {
		if uses(f.Live) {
			live = append(live, f.Name)
		} else if uses(f.Draft) {
			drafts = append(drafts, f.Name)
		}
	})
	slices.Sort(live)
	slices.Sort(drafts)
	return live, drafts
}

// CalledAt lists the flows that live ones call at runners, sorted, by runner.
func (c *Catalog) CalledAt() map[string][]string {
	out := map[string][]string{}
	c.Each(func(f *Flow) {
		if f.Live == nil {
			return
		}
		for _, u := range f.Live.Uses {
			if u.Kind == step.UseFlow && u.Runner != "" && !slices.Contains(out[u.Runner], u.Name) {
				out[u.Runner] = append(out[u.Runner], u.Name)
			}
		}
	})
	for _, flows := range out {
		slices.Sort(flows)
	}
	return out
}
