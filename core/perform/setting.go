package perform

import (
	"context"
	"errors"
	"fmt"

	"uparrot/core/procedure"
)

// setting reads or writes a setting. What the phrasebook wants done afterwards is done however
// that ends, also where it was interrupted: a module must not be left in its setup.
func (p *performer) setting(ctx context.Context, n *procedure.SettingUse) error {
	if len(n.Body) == 0 {
		return fmt.Errorf("no phrasebook is known of the port %s: name one in the procedure or on the bench", n.Port)
	}
	err := p.statements(ctx, n.Enter)
	if err == nil {
		err = p.statements(ctx, n.Body)
	}
	if len(n.Leave) == 0 {
		return err
	}
	if left := p.statements(context.WithoutCancel(ctx), n.Leave); left != nil {
		err = errors.Join(err, fmt.Errorf("leave the setup: %w", left))
	}
	return err
}
