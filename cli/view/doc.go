// Package view has the pieces of terminal views: what wakes them, columns of text, bars and small charts.
package view
