package http

import (
	"readyferry/connect"
	"readyferry/core/retry"
)

// outcomes are what the help shows; retry.Plan.Classify decides, and a step's own lists come
// before it.
func outcomes() []connect.Meaning {
	again, never := string(retry.Again), string(retry.Never)
	return []connect.Meaning{
		{Code: "200 to 299", Words: "it was taken", Comes: string(retry.Delivered)},
		{Code: "408, 425, 429", Words: "too slow, too early, too many: at the time that Retry-After asks for, where it does", Comes: again},
		{Code: "400, 413, 422", Words: "the message is at fault (RFC 9110, 15.5)", Comes: "never (data)"},
		{Code: "401", Words: "an OAuth 2 token is fetched anew, once; then the sign-in is refused", Comes: never},
		{Code: "100 to 199, 300 to 499", Words: "anything else; redirects are not followed", Comes: never},
		{Code: "501, 505", Words: "the server cannot do this at all", Comes: never},
		{Code: "500 to 599", Words: "the server has a fault of its own", Comes: again},
		{Code: "", Words: "a delivered answer is larger than the connection takes", Comes: never},
		connect.InDoubt("no answer comes in time, the connection breaks off"),
	}
}
