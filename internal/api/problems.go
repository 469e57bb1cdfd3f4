package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/validation"
	"github.com/labstack/echo/v5"

	"lithos/internal/actor"
	"lithos/internal/store"
)

// What is wrong with a value, and what to type instead.
func init() {
	validation.MsgUnexpectedProperty = "is not a field of this request; leave it out"
	validation.MsgExpectedRequiredProperty = "the field %s is missing; give it"
	validation.MsgExpectedString = "must be text, in quotes"
	validation.MsgExpectedBoolean = "must be true or false"
	validation.MsgExpectedNumber = "must be a number"
	validation.MsgExpectedInteger = "must be a whole number"
	validation.MsgExpectedArray = "must be a list"
	validation.MsgExpectedObject = "must be an object"
	validation.MsgExpectedOneOf = "must be one of \"%s\""
	validation.MsgExpectedMinimumNumber = "type a number of at least %v"
	validation.MsgExpectedMaximumNumber = "type a number of at most %v"
	validation.MsgExpectedMinLength = "type at least %d characters"
	validation.MsgExpectedMaxLength = "type at most %d characters"
	validation.MsgExpectedMinItems = "give at least %d"
	validation.MsgExpectedMaxItems = "give at most %d at a time"
}

// instead is the value of an error's detail: what may be meant, to be typed in place of what was.
type instead string

// problem makes the problem documents of the API (RFC 9457). What was typed is not
// sent back: it may be a password.
func problem(status int, message string, details ...error) huma.StatusError {
	out := &huma.ErrorModel{Status: status, Title: http.StatusText(status), Detail: message}
	for _, err := range details {
		var detail *huma.ErrorDetail
		if errors.As(err, &detail) {
			kept := &huma.ErrorDetail{Location: detail.Location, Message: detail.Message}
			if meant, ok := detail.Value.(instead); ok {
				kept.Value = meant
			}
			out.Errors = append(out.Errors, kept)
		} else if err != nil {
			out.Errors = append(out.Errors, &huma.ErrorDetail{Message: err.Error()})
		}
	}
	if message == "validation failed" && len(out.Errors) > 0 {
		first := out.Errors[0]
		at := strings.TrimPrefix(strings.TrimPrefix(first.Location, "body."), "query.")
		out.Detail = fmt.Sprintf("Nothing was done: %s %s.", at, strings.TrimSuffix(first.Message, "."))
	}
	return out
}

var statuses = map[actor.Kind]int{
	actor.Missing: http.StatusNotFound, actor.Invalid: http.StatusUnprocessableEntity,
	actor.Conflict: http.StatusConflict,
	actor.Denied:   http.StatusUnauthorized, actor.Busy: http.StatusTooManyRequests,
}

// statusGivenUp is for the log: the browser is gone.
const statusGivenUp = 499

// problem turns an error of a use case into a problem document. What is not meant
// for people is logged, and told as a fault of the server.
func (s *server) problem(err error) error {
	if err == nil {
		return nil
	}
	var refusal *actor.Refusal
	switch {
	case errors.As(err, &refusal):
		details := make([]error, len(refusal.Fields))
		for i, f := range refusal.Fields {
			detail := &huma.ErrorDetail{Location: "body." + f.Field, Message: f.Says}
			if f.Instead != "" {
				detail.Value = instead(f.Instead)
			}
			details[i] = detail
		}
		return huma.NewError(statuses[refusal.Kind], refusal.Says, details...)
	case store.IsUnkeepable(err):
		return huma.NewError(http.StatusUnprocessableEntity,
			"Something that was typed holds a character that cannot be kept. Type it again without.")
	case errors.Is(err, context.Canceled):
		return huma.NewError(statusGivenUp, "The request was given up.")
	case errors.Is(err, context.DeadlineExceeded):
		s.log.Error("request took too long", "error", err)
		return huma.NewError(http.StatusServiceUnavailable,
			"Lithos is too busy at this moment. Look whether it was done, then try again.")
	}
	s.log.Error("request failed", "error", err)
	return huma.NewError(http.StatusInternalServerError,
		"Something went wrong in Lithos, and nothing was changed. Try again; if it happens again, the server's log "+
			"says more.")
}

// sentences are what to tell people of a status that no use case came to.
var sentences = map[int]string{
	http.StatusNotFound: "There is nothing at this address of the API. docs/api.md lists what there is.",
	http.StatusMethodNotAllowed: "This address of the API does not take that method. docs/api.md lists what " +
		"each takes.",
	http.StatusRequestEntityTooLarge: fmt.Sprintf("The request is larger than %d MiB. Send less at a time.",
		maxRequest>>20),
	http.StatusServiceUnavailable: "Lithos is too busy at this moment. Try again.",
}

// failed answers what went wrong outside of an operation: of the API with a problem
// document, elsewhere with the same in a line of text.
func (s *server) failed(c *echo.Context, err error) {
	if r, failed := echo.UnwrapResponse(c.Response()); failed == nil && r.Committed {
		return
	}
	status := echo.StatusCode(err)
	if status == http.StatusMethodNotAllowed && c.Path() == "/*" {
		status = http.StatusNotFound // only the pages have such a path
	}
	says := sentences[status]
	var said *echo.HTTPError
	if errors.As(err, &said) && says == "" {
		says = said.Message
	}
	if status == 0 || says == "" {
		s.log.Error("request failed", "path", c.Request().URL.Path, "error", err)
		status, says = http.StatusInternalServerError,
			"Something went wrong in Lithos. Try again; if it happens again, the server's log says more."
	}
	if !strings.HasPrefix(c.Request().URL.Path, prefix+"/") {
		_ = c.String(status, says+"\n")
		return
	}
	writeProblem(c, status, says)
}

func writeProblem(c *echo.Context, status int, says string) {
	raw, err := json.Marshal(problem(status, says))
	if err != nil {
		return
	}
	_ = c.Blob(status, "application/problem+json", raw)
}
