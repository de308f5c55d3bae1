package overview

import (
	"context"

	"beacon/core/access"
	"beacon/store"
	"beacon/wire"
)

// Operations returns the last bulk changes, newest first.
func (s *Overview) Operations(ctx context.Context, by access.Caller, limit int) (list []wire.Operation, err error) {
	all := access.May(by, access.See, access.Everything).Allowed // else only the caller's own: others change zones that it may not see
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		rows, err := tx.Operations(limit)
		list = []wire.Operation{}
		for _, o := range rows {
			if all || o.Author == by.Name {
				list = append(list, wire.Operation(o))
			}
		}
		return err
	})
	return list, err
}
