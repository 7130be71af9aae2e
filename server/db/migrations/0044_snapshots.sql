CREATE TABLE `snapshots` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`project_id` bigint NOT NULL,
	`file_id` bigint NOT NULL,
	`name` varchar(1020) NOT NULL,
	`on_volume_id` bigint NOT NULL,
	`path` varchar(4096) NOT NULL,
	`state` enum('being kept','kept','going') NOT NULL,
	`taken_at` datetime(3) NOT NULL,
	`modified_us` bigint NOT NULL,
	`size_bytes` bigint NOT NULL,
	`xxh64` char(16) NOT NULL,
	`summary` json NOT NULL,
	CONSTRAINT `snapshots_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE INDEX `snapshots_project` ON `snapshots` (`project_id`);--> statement-breakpoint
CREATE INDEX `snapshots_file` ON `snapshots` (`file_id`);