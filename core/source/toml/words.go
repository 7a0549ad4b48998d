package toml

import "strings"

// words are what a message of the parser comes to, by how it begins.
var words = []struct{ begins, what, mend string }{
	{"basic strings cannot have new lines", "the text is not closed", "Close it with \" in the same line."},
	{"unterminated basic string", "the text is not closed", "Close it with \" in the same line."},
	{"literal strings cannot have new lines", "the text is not closed", "Close it with ' in the same line."},
	{"unterminated literal string", "the text is not closed", "Close it with ' in the same line."},
	{"multiline literal string not terminated", "the text is not closed", "Close it with '''."},
	{"too many quotes", "there are too many quotes", "Close a text of several lines with three."},
	{"invalid escape character", "a backslash stands before what it cannot", "Write \\\\ for a backslash of the text, or put the text in single quotes."},
	{"unicode escape sequence", "\\u wants four hexadecimal digits, \\U eight", ""},
	{"invalid hexadecimal digit in unicode", "\\u wants four hexadecimal digits, \\U eight", ""},
	{"escape sequence is not a valid", "there is no such character", ""},
	{"invalid UTF-8", "this is not UTF-8 text", "Save the file as UTF-8."},
	{"strings must be quoted", "a text stands in quotes", "Write it between \" and \"."},
	{"unexpected character", "a value cannot begin so", "A text stands in quotes; a number, true and false do not."},
	{"expected value", "there is no value", "Write one behind the =, a text in quotes."},
	{"expected '=' after key", "wanted = and a value behind the key", "Write KEY = VALUE; a comment begins with #."},
	{"expected key", "wanted a key", "Write KEY = VALUE."},
	{"invalid character at start of key", "a key cannot begin so", "A key is letters, digits, _ and -; else it stands in quotes."},
	{"expected ']]'", "the name of the table is not closed", "Close it with ]]."},
	{"expected ']'", "the name of the table is not closed", "Close it with ]."},
	{"expected ',' or ']'", "the list is not closed", "Write , between its values and ] behind the last."},
	{"array is incomplete", "the list is not closed", "Write ] behind its last value."},
	{"expected ',' or '}'", "the table is not closed", "Write , between its keys and } behind the last."},
	{"inline table is incomplete", "the table is not closed", "Write } behind its last key."},
	{"unexpected comma", "there is a comma too many", "Delete it."},
	{"expected newline", "there is too much in this line", "Write each key on a line of its own."},
	{"integers cannot have leading zeroes", "a number cannot begin with 0", "Leave the 0 out, or put it in quotes if it is a text."},
	{"control characters", "there is a control byte", "Delete it, or write it as \\u and four hexadecimal digits."},
	{"basic strings cannot have control", "there is a control byte", "Write it as \\u and four hexadecimal digits."},
	{"multiline basic strings cannot have control", "there is a control byte", "Write it as \\u and four hexadecimal digits."},
	{"literal strings cannot have control", "there is a control byte", "Write the text in double quotes, and the byte as \\u and four hexadecimal digits."},
	{"carriage return", "a carriage return stands alone", "End lines with LF or CR LF."},
	{"arrays and inline tables", "too many lists and tables stand in each other", ""},
	{"", "this cannot be read", "Write KEY = VALUE, or [TABLE]."},
}

// inWords is a message of the parser in words of our own.
func inWords(message string) (what, mend string) {
	for _, w := range words {
		if strings.HasPrefix(message, w.begins) {
			return w.what, w.mend
		}
	}
	return message, ""
}
