CREATE INDEX `receipts_project` ON `receipts` (`project_id`);--> statement-breakpoint
CREATE INDEX `receipts_who` ON `receipts` (`who`);--> statement-breakpoint
CREATE INDEX `receipts_action` ON `receipts` (`action`);--> statement-breakpoint
CREATE INDEX `receipts_at` ON `receipts` (`at`);