// Package speak is the commands that speak with a module by hand, and read and write its settings.
package speak
