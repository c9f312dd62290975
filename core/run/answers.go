package run

import (
	"fmt"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/step"
)

// StoredAnswer is what a caller gets when no step says otherwise.
func StoredAnswer(transaction string) *step.Answer {
	body := jsonfmt.Encode(message.NewMap(message.Member{Name: "transaction", Value: message.NewString(transaction)}))
	return &step.Answer{
		Status:  202,
		Headers: []message.Header{{Name: "Content-Type", Value: "application/json"}},
		Body:    body,
	}
}

// FinishedAnswer is what a caller gets who waits for the end, when no step says
// otherwise.
func FinishedAnswer(transaction, state, reason string) *step.Answer {
	if state == DeadLetter {
		return RefusalAnswer(
			&RefusedError{
				Status: 500,
				Title:  "The message could not be worked on",
				Detail: fmt.Sprintf(
					"%s; it is kept as transaction %s, and a person decides about it",
					reason,
					transaction,
				),
			},
		)
	}
	n := message.NewMap(
		message.Member{Name: "transaction", Value: message.NewString(transaction)},
		message.Member{Name: "state", Value: message.NewString(state)},
	)
	if reason != "" {
		n = n.With("reason", message.NewString(reason))
	}
	return &step.Answer{
		Status:  200,
		Headers: []message.Header{{Name: "Content-Type", Value: "application/json"}},
		Body:    jsonfmt.Encode(n),
	}
}

// RefusalAnswer is the problem document (RFC 9457) for a refused message.
func RefusalAnswer(e *RefusedError) *step.Answer {
	body := jsonfmt.Encode(message.NewMap(
		message.Member{Name: "type", Value: message.NewString("about:blank")},
		message.Member{Name: "title", Value: message.NewString(e.Title)},
		message.Member{Name: "status", Value: message.NewNumber(fmt.Sprint(e.Status))},
		message.Member{Name: "detail", Value: message.NewString(e.Detail)},
	))
	headers := []message.Header{{Name: "Content-Type", Value: "application/problem+json"}}
	if n := e.RetrySeconds(); n > 0 {
		headers = append(headers, message.Header{Name: "Retry-After", Value: fmt.Sprint(n)})
	}
	return &step.Answer{Status: e.Status, Headers: headers, Body: body}
}
