ALTER TABLE `file_sums` MODIFY COLUMN `xxh64` char(16);--> statement-breakpoint
ALTER TABLE `file_sums` ADD `ends` char(16) NOT NULL;