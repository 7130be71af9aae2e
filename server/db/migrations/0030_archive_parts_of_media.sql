ALTER TABLE `archive_files` MODIFY COLUMN `role` enum('media','part','document','original document') NOT NULL;--> statement-breakpoint
ALTER TABLE `archive_files` ADD `of_bytes` bigint;--> statement-breakpoint
ALTER TABLE `archive_files` ADD `part_from` bigint;--> statement-breakpoint
ALTER TABLE `archive_files` ADD `part_to` bigint;--> statement-breakpoint
ALTER TABLE `archive_files` ADD `measured` boolean DEFAULT false NOT NULL;--> statement-breakpoint
ALTER TABLE `archive_files` ADD `why_whole` varchar(250);--> statement-breakpoint
ALTER TABLE `media` ADD `spans` json;