CREATE TABLE `aside` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`item_id` bigint NOT NULL,
	`step_id` bigint NOT NULL,
	`file_id` bigint NOT NULL,
	`volume_id` bigint NOT NULL,
	`project_id` bigint,
	`kind` enum('source','proxy','render','cache','audio','document','backup','library','delivery','other') NOT NULL,
	`path` varchar(4096) NOT NULL,
	`raw_path` varbinary(4096),
	`aside_path` varchar(4096) NOT NULL,
	`aside_raw` varbinary(4096),
	`size_bytes` bigint NOT NULL,
	`modified_us` bigint NOT NULL,
	`device` bigint,
	`inode` bigint,
	`changed_us` bigint,
	`level` int NOT NULL,
	`reason` varchar(300) NOT NULL,
	`at` datetime(3) NOT NULL,
	`state` enum('aside','taken back','removed') NOT NULL DEFAULT 'aside',
	`ended_at` datetime(3),
	CONSTRAINT `aside_id` PRIMARY KEY(`id`),
	CONSTRAINT `aside_item` UNIQUE(`item_id`)
);
--> statement-breakpoint
CREATE TABLE `aside_sums` (
	`step_id` bigint NOT NULL,
	`volume_id` bigint NOT NULL,
	`level` int NOT NULL,
	`files` bigint NOT NULL,
	`bytes` bigint NOT NULL,
	CONSTRAINT `aside_sums_key` UNIQUE(`step_id`,`volume_id`,`level`)
);
--> statement-breakpoint
CREATE INDEX `aside_file` ON `aside` (`file_id`,`state`);--> statement-breakpoint
CREATE INDEX `aside_state` ON `aside` (`state`,`at`,`id`);--> statement-breakpoint
CREATE INDEX `aside_step` ON `aside` (`step_id`,`state`);--> statement-breakpoint
CREATE INDEX `aside_sums_volume` ON `aside_sums` (`volume_id`);