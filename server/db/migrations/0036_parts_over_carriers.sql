DROP INDEX `archive_files_archive` ON `archive_files`;--> statement-breakpoint
ALTER TABLE `archives` ADD `base_id` bigint;--> statement-breakpoint
ALTER TABLE `step_items` ADD `archive_file_id` bigint;--> statement-breakpoint
CREATE INDEX `archive_files_part` ON `archive_files` (`part_id`);--> statement-breakpoint
CREATE INDEX `archive_files_archive` ON `archive_files` (`archive_id`,`part_id`);