package cli

import (
	"encoding/json"
	"errors"

	"hollowbridge/internal/netfile"
)

// printJSON writes a value as indented JSON.
func (c *call) printJSON(v any) {
	encoder := json.NewEncoder(c.Out)
	encoder.SetIndent("", "  ")
	encoder.SetEscapeHTML(false)
	if err := encoder.Encode(v); err != nil {
		c.failed(err)
	}
}

type errorJSON struct {
	File    string `json:"file"`
	Line    int    `json:"line"`
	Column  int    `json:"column"`
	Message string `json:"message"`
}

type checkJSON struct {
	File   string      `json:"file"`
	Errors []errorJSON `json:"errors"`
}

func (c *call) checkJSON() int {
	result := checkJSON{File: c.path(), Errors: []errorJSON{}}
	_, err := netfile.Read(c.path())
	var wrongs netfile.Errors
	switch {
	case errors.As(err, &wrongs):
		for _, e := range wrongs {
			result.Errors = append(result.Errors, errorJSON{e.Place.File, e.Place.Line, e.Place.Column, e.Message})
		}
	case err != nil:
		return c.failed(err)
	}
	c.printJSON(result)
	if len(result.Errors) > 0 {
		return wrong
	}
	return yes
}
