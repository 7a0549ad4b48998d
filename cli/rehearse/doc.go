// Package rehearse is the command that tells whether a procedure would catch a bad module.
package rehearse
