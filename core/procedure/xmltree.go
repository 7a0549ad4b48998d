package procedure

import (
	"bufio"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/antchfx/xpath"
)

// xmlNode is a node of an XML text.
type xmlNode struct {
	kind     xpath.NodeType
	name     xml.Name // of an element
	attrs    []xml.Attr
	text     string // of text and comments
	parent   *xmlNode
	children []*xmlNode
	place    int // among its parent's children
}

// parseXML reads XML into a tree. Beside UTF-8 it reads the charsets that small
// modules declare: ASCII and Latin-1.
func parseXML(text string) (*xmlNode, error) {
	root := &xmlNode{kind: xpath.RootNode}
	at := root
	add := func(n *xmlNode) *xmlNode {
		n.parent, n.place = at, len(at.children)
		at.children = append(at.children, n)
		return n
	}
	d := xml.NewDecoder(strings.NewReader(text))
	d.CharsetReader = latin1
	for {
		token, err := d.Token()
		if err == io.EOF {
			if len(root.children) == 0 {
				return nil, errors.New("it is empty")
			}
			return root, nil
		}
		if err != nil {
			return nil, err
		}
		switch t := token.(type) {
		case xml.StartElement:
			at = add(&xmlNode{kind: xpath.ElementNode, name: t.Name, attrs: t.Copy().Attr})
		case xml.EndElement:
			at = at.parent
		case xml.CharData:
			if at != root {
				add(&xmlNode{kind: xpath.TextNode, text: string(t)})
			}
		case xml.Comment:
			add(&xmlNode{kind: xpath.CommentNode, text: string(t)})
		}
	}
}

// latin1 reads ISO 8859-1, of which ASCII is a part.
func latin1(charset string, in io.Reader) (io.Reader, error) {
	switch strings.ToLower(charset) {
	case "iso-8859-1", "latin1", "us-ascii", "ascii":
		return &latinReader{in: bufio.NewReader(in)}, nil
	}
	return nil, fmt.Errorf("the charset %s is not known here: there are UTF-8, ISO-8859-1 and US-ASCII", charset)
}

type latinReader struct {
	in   *bufio.Reader
	left []byte
}

func (l *latinReader) Read(b []byte) (int, error) {
	if len(l.left) == 0 {
		c, err := l.in.ReadByte()
		if err != nil {
			return 0, err
		}
		l.left = []byte(string(rune(c)))
	}
	n := copy(b, l.left)
	l.left = l.left[n:]
	return n, nil
}

// value is the text of a node and all that stands in it.
func (n *xmlNode) value() string {
	if n.kind == xpath.TextNode || n.kind == xpath.CommentNode {
		return n.text
	}
	var b strings.Builder
	for _, c := range n.children {
		if c.kind != xpath.CommentNode {
			b.WriteString(c.value())
		}
	}
	return b.String()
}

// xmlCursor goes about a tree as the XPath engine asks for it.
type xmlCursor struct {
	node *xmlNode
	attr int // of its attributes, from 1; 0 is the node itself
}

func (c *xmlCursor) NodeType() xpath.NodeType {
	if c.attr > 0 {
		return xpath.AttributeNode
	}
	return c.node.kind
}

func (c *xmlCursor) name() xml.Name {
	if c.attr > 0 {
		return c.node.attrs[c.attr-1].Name
	}
	return c.node.name
}

func (c *xmlCursor) LocalName() string { return c.name().Local }

// Prefix is empty: the decoder has put the name of the space in its place.
func (c *xmlCursor) Prefix() string { return "" }

func (c *xmlCursor) NamespaceURL() string { return c.name().Space }

func (c *xmlCursor) Value() string {
	if c.attr > 0 {
		return c.node.attrs[c.attr-1].Value
	}
	return c.node.value()
}

func (c *xmlCursor) Copy() xpath.NodeNavigator { other := *c; return &other }

func (c *xmlCursor) MoveToRoot() {
	for c.attr = 0; c.node.parent != nil; {
		c.node = c.node.parent
	}
}

func (c *xmlCursor) MoveToParent() bool {
	if c.attr > 0 {
		c.attr = 0
		return true
	}
	if c.node.parent == nil {
		return false
	}
	c.node = c.node.parent
	return true
}

func (c *xmlCursor) MoveToNextAttribute() bool {
	if c.attr >= len(c.node.attrs) {
		return false
	}
	c.attr++
	return true
}

func (c *xmlCursor) MoveToChild() bool {
	if c.attr > 0 || len(c.node.children) == 0 {
		return false
	}
	c.node = c.node.children[0]
	return true
}

func (c *xmlCursor) sibling(place int) bool {
	if c.attr > 0 || c.node.parent == nil || place < 0 || place >= len(c.node.parent.children) {
		return false
	}
	c.node = c.node.parent.children[place]
	return true
}

func (c *xmlCursor) MoveToFirst() bool    { return c.sibling(0) }
func (c *xmlCursor) MoveToNext() bool     { return c.sibling(c.node.place + 1) }
func (c *xmlCursor) MoveToPrevious() bool { return c.sibling(c.node.place - 1) }

func (c *xmlCursor) MoveTo(other xpath.NodeNavigator) bool {
	o, ok := other.(*xmlCursor)
	if ok {
		*c = *o
	}
	return ok
}
