package demo

import "readyferry/core/access"

// People are those as whom a visitor may look at the demo, the one who may do everything
// first. Nobody signs in as them: the names are made up, as all else here.
func People() []access.Who {
	some := func(name, title string, grants ...access.Grant) access.Who {
		return access.Who{Kind: access.Visitor, Name: name, Title: title, Grants: grants}
	}
	return []access.Who{
		some("visitor", "Visitor", access.All()...),
		some("rhea", "Rhea, a reader", access.Grant{Role: access.Reader, Area: "circulation"},
			access.Grant{Role: access.Reader, Area: "interloan"}),
		some("otis", "Otis, an operator", access.Grant{Role: access.Operator, Area: "circulation"}),
		some("dana", "Dana, a designer", access.Grant{Role: access.Designer, Area: "interloan"},
			access.Grant{Role: access.Reader, Area: "circulation"}),
		some("owen", "Owen, an owner", access.Grant{Role: access.Owner, Area: access.Everywhere},
			access.Grant{Role: access.Publisher, Area: access.Everywhere}),
	}
}
