package cli

import (
	"encoding/json"
	"fmt"
)

// printJSONLine writes a value as JSON on one line.
func (c *call) printJSONLine(v any) {
	data, err := json.Marshal(v)
	if err != nil {
		c.failed(err)
		return
	}
	fmt.Fprintf(c.Out, "%s\n", data)
}

// printJSON writes a value as indented JSON.
func (c *call) printJSON(v any) {
	encoder := json.NewEncoder(c.Out)
	encoder.SetIndent("", "  ")
	encoder.SetEscapeHTML(false)
	if err := encoder.Encode(v); err != nil {
		c.failed(err)
	}
}
