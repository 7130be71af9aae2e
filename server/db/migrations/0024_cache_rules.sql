CREATE TABLE `cache_rules` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`volume_id` bigint NOT NULL,
	`project_id` bigint,
	`by_` enum('age','cap') NOT NULL,
	`days` int,
	`cap_bytes` bigint,
	`except_` json NOT NULL,
	`at_night` boolean NOT NULL,
	`most_bytes` bigint NOT NULL,
	`created_at` datetime(3) NOT NULL,
	`ran_at` datetime(3),
	`said` varchar(500),
	CONSTRAINT `cache_rules_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE INDEX `cache_rules_volume` ON `cache_rules` (`volume_id`);