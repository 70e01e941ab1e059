package service

import (
	"context"
	"log/slog"
	"time"

	"arithmon/internal/record/database"
)

// It is looked so often whether the backup of the day is there.
const lookForBackup = 10 * time.Minute

// backUp makes a backup each day and keeps those of so many days, until ctx ends.
func backUp(ctx context.Context, db *database.Database, days int, log *slog.Logger) {
	ticker := time.NewTicker(lookForBackup)
	defer ticker.Stop()
	for {
		if err := db.Daily(ctx, time.Now(), days); err != nil && ctx.Err() == nil {
			log.Error("the backup of today could not be made; it is tried again", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
	}
}
