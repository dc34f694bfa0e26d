package cli

import "encoding/json"

// printJSON writes a value as indented JSON.
func (c *call) printJSON(v any) {
	encoder := json.NewEncoder(c.Out)
	encoder.SetIndent("", "  ")
	encoder.SetEscapeHTML(false)
	if err := encoder.Encode(v); err != nil {
		c.failed(err)
	}
}
