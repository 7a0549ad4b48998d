package report

import (
	"encoding/json"
	"io"
	"maps"
	"path/filepath"
	"slices"
)

// SarifResult is one finding in a file.
type SarifResult struct {
	Rule, Level, Text   string
	File                string
	Line, Column, Width int // from 1; 0 is the whole file
}

// WriteSARIF writes findings as SARIF 2.1.0 (OASIS); rules tells what each rule is. Version is
// that of the program.
func WriteSARIF(w io.Writer, version string, rules map[string]string, results []SarifResult) error {
	type object = map[string]any
	list := []object{}
	for _, r := range results {
		region := object{"startLine": max(1, r.Line)}
		if r.Column > 0 {
			region["startColumn"], region["endColumn"] = r.Column, r.Column+max(1, r.Width)
		}
		list = append(list, object{"ruleId": r.Rule, "level": r.Level, "message": object{"text": r.Text},
			"locations": []object{{"physicalLocation": object{"artifactLocation": object{"uri": filepath.ToSlash(r.File)}, "region": region}}}})
	}
	told := []object{}
	for _, id := range slices.Sorted(maps.Keys(rules)) {
		told = append(told, object{"id": id, "shortDescription": object{"text": rules[id]}})
	}
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	return e.Encode(object{"version": "2.1.0", "$schema": "https://json.schemastore.org/sarif-2.1.0.json", "runs": []object{{
		"tool":       object{"driver": object{"name": "uparrot", "version": version, "rules": told}},
		"columnKind": "unicodeCodePoints", "results": list}}})
}
