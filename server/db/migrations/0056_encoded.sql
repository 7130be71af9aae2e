ALTER TABLE `archive_files` MODIFY COLUMN `role` enum('media','part','encoded','document','original document') NOT NULL;--> statement-breakpoint
ALTER TABLE `archive_files` ADD `encoding` enum('lossless','viewing');--> statement-breakpoint
ALTER TABLE `step_parts` ADD `encoding` enum('lossless','viewing');