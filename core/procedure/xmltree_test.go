package procedure

import (
	"fmt"
	"strings"
	"testing"
)

// What XPath says of the status of a sensor mast, over every axis that people use.
func TestXPath(t *testing.T) {
	const mast = `<?xml version="1.0" encoding="ISO-8859-1"?><!-- the mast -->
<mast xmlns:w="urn:wheatear" name="T3"><sensor id="1" unit="m/s">7.5</sensor><sensor id="2" unit="\xb0C">-4<w:old>9</w:old></sensor><!-- none -->
<w:state>up &amp; on</w:state><door>closed</door></mast>`
	latin := strings.ReplaceAll(mast, `\xb0`, "\xb0")
	for path, want := range map[string]string{
		"/mast/@name":                             "T3",
		"//sensor[@id='2']/@unit":                 "°C",
		"//sensor[2]":                             "-49",
		"//sensor[2]/text()":                      "-4",
		"count(//sensor)":                         "2",
		"number(//sensor[1]) + 1":                 "8.5",
		"//door/preceding-sibling::sensor[1]/@id": "2",
		"//sensor[1]/following-sibling::*[1]/@id": "2",
		"//*[local-name()='state']":               "up & on",
		"//sensor[last()]/..//door":               "closed",
		"name(/*)":                                "mast",
		"/mast/sensor/@id[. > 1]":                 "2",
		"string-length(//door)":                   "6",
		"/mast/comment()":                         " none ",
		"boolean(//sensor[. = '7.5'])":            "true",
		"//sensor[contains(@unit, 'm')]/@id":      "1",
		"//door/ancestor::mast/@name":             "T3",
		"//nothing":                               "error",
		"//[":                                     "error",
	} {
		v, err := xpathValue(latin, path)
		got := fmt.Sprint(v)
		if err != nil {
			got = "error"
		}
		if got != want {
			t.Errorf("%s: %s, %v, want %s", path, got, err, want)
		}
	}
	for _, text := range []string{"", "no XML", "<a>", "<a></b>", `<?xml version="1.0" encoding="koi8-r"?><a/>`} {
		if v, err := xpathValue(text, "/a"); err == nil {
			t.Errorf("%q gave %v", text, v)
		}
	}
}
