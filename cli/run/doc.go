// Package run is the commands that perform: a procedure at one module, at each unit of a table, and the
// stand-ins that take the place of modules.
package run
