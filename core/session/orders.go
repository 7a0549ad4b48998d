package session

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"time"

	"uparrot/core/sim"
	"uparrot/core/source"
)

// A running bench is told things through a socket beside its links: one line
// each way, "ok" or what is wrong.

const controlName = ".control"

// serveControl takes orders until the listener is closed.
func (l *Live) serveControl() error {
	path := filepath.Join(l.dir, controlName)
	os.Remove(path) // left by one that was killed; if it cannot be removed, listening says so
	ln, key, err := listenForOrders(path)
	if err != nil {
		return fmt.Errorf("listen for orders: %w", err)
	}
	l.control = ln
	go func() {
		for {
			conn, err := ln.Accept()
			if err != nil {
				return // closed
			}
			go func() {
				defer conn.Close()
				line, err := bufio.NewReader(conn).ReadString('\n')
				if err != nil {
					return
				}
				order, ours := strings.CutPrefix(line, key)
				if !ours {
					return // somebody else of this machine, who does not know the key
				}
				answer := "ok"
				if err := l.Order(strings.Fields(order)); err != nil {
					answer = err.Error()
				}
				fmt.Fprintln(conn, answer)
			}()
		}
	}()
	return nil
}

const orderForm = `wanted "power NAME on", "power NAME off", "power NAME cycle", "wire NAME HOW", "swap NAME" or "hand NAME WHAT"`

// Order obeys one order, given in words.
func (l *Live) Order(words []string) error {
	if len(words) >= 3 && words[0] == "hand" {
		return l.Hand(words[1], words[2:])
	}
	if len(words) >= 2 && words[0] == "swap" {
		settings := map[string]string{}
		for _, w := range words[2:] {
			name, v, ok := strings.Cut(w, "=")
			if !ok {
				return fmt.Errorf("%q is no setting: wanted NAME=VALUE", w)
			}
			settings[name] = v
		}
		return l.Swap(words[1], settings)
	}
	if len(words) != 3 {
		return errors.New(orderForm)
	}
	name, how := words[1], words[2]
	switch words[0] {
	case "power":
		switch how {
		case "on", "off":
			return l.Power(name, how == "on")
		case "cycle":
			if err := l.Power(name, false); err != nil {
				return err
			}
			time.Sleep(200 * time.Millisecond) // as long as a hand takes
			return l.Power(name, true)
		}
		return fmt.Errorf("there is no power %q. %s", how, source.DidYouMean(how, []string{"on", "off", "cycle"}))
	case "wire":
		w, ok := sim.Wirings[how]
		if !ok {
			var names []string
			for n := range sim.Wirings {
				names = append(names, n)
			}
			sort.Strings(names)
			return fmt.Errorf("there is no wiring %q. %s", how, source.DidYouMean(how, names))
		}
		return l.Join(name, w)
	}
	return errors.New(orderForm)
}

// Tell gives an order to the bench that runs in a folder.
func Tell(dir, order string) error {
	conn, key, err := dialForOrders(filepath.Join(dir, controlName))
	if err != nil {
		return &Unable{fmt.Sprintf("no stand-ins are running in %s. Start them with: uparrot standin BENCH", dir)}
	}
	defer conn.Close()
	if _, err := fmt.Fprintln(conn, key+order); err != nil {
		return fmt.Errorf("give the order: %w", err)
	}
	answer, err := bufio.NewReader(conn).ReadString('\n')
	if err != nil {
		return fmt.Errorf("hear whether the order was obeyed: %w", err)
	}
	if answer = strings.TrimSpace(answer); answer != "ok" {
		return &Misuse{What: answer}
	}
	return nil
}
