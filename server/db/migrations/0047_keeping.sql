ALTER TABLE `archive_copies` MODIFY COLUMN `state` enum('writing','good','damaged','ended early','let go') NOT NULL;--> statement-breakpoint
ALTER TABLE `archives` MODIFY COLUMN `state` enum('writing','sealed','ended early','let go') NOT NULL;--> statement-breakpoint
ALTER TABLE `copy_parts` MODIFY COLUMN `state` enum('writing','good','damaged','ended early','let go') NOT NULL;--> statement-breakpoint
ALTER TABLE `archives` ADD `keep_rule` enum('ask','until','for ever') DEFAULT 'ask' NOT NULL;--> statement-breakpoint
ALTER TABLE `archives` ADD `keep_until` datetime(3);--> statement-breakpoint
ALTER TABLE `archives` ADD `hold_reason` varchar(300);--> statement-breakpoint
ALTER TABLE `archives` ADD `hold_by` varchar(120);--> statement-breakpoint
ALTER TABLE `archives` ADD `hold_at` datetime(3);