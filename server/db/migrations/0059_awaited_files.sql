CREATE TABLE `awaited_files` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`archive_id` bigint NOT NULL,
	`folder` varchar(250) NOT NULL,
	`path` varchar(4096) NOT NULL,
	`sha512` char(128) NOT NULL,
	CONSTRAINT `awaited_files_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE INDEX `awaited_files_archive` ON `awaited_files` (`archive_id`,`sha512`);