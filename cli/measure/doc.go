// Package measure is the commands that measure the link between modules.
package measure
