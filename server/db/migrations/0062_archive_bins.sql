CREATE TABLE `archive_bins` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`archive_id` bigint NOT NULL,
	`name` varchar(4000) NOT NULL,
	CONSTRAINT `archive_bins_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE INDEX `archive_bins_archive` ON `archive_bins` (`archive_id`);--> statement-breakpoint
INSERT INTO `archive_bins` (`archive_id`, `name`) SELECT DISTINCT `archive_id`, `bin` FROM `archive_clips` WHERE `bin` <> '';
