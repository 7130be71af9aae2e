CREATE TABLE `archive_clips` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`archive_id` bigint NOT NULL,
	`document_file_id` bigint NOT NULL,
	`bin` varchar(4000) NOT NULL,
	`name` varchar(1020) NOT NULL,
	`archive_file_id` bigint,
	CONSTRAINT `archive_clips_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `archive_timelines` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`archive_id` bigint NOT NULL,
	`document_file_id` bigint NOT NULL,
	`name` varchar(1020) NOT NULL,
	`duration_frames` bigint NOT NULL,
	`rate_num` int NOT NULL,
	`rate_den` int NOT NULL,
	`missing` int NOT NULL DEFAULT 0,
	CONSTRAINT `archive_timelines_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `archive_uses` (
	`timeline_id` bigint NOT NULL,
	`archive_file_id` bigint NOT NULL,
	CONSTRAINT `archive_uses_timeline_id_archive_file_id_pk` PRIMARY KEY(`timeline_id`,`archive_file_id`)
);
--> statement-breakpoint
CREATE INDEX `archive_clips_archive` ON `archive_clips` (`archive_id`);--> statement-breakpoint
CREATE INDEX `archive_clips_file` ON `archive_clips` (`archive_file_id`);--> statement-breakpoint
CREATE INDEX `archive_timelines_archive` ON `archive_timelines` (`archive_id`);