CREATE TABLE `kept_kinds` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`volume_id` bigint NOT NULL,
	`folder` varchar(4096) NOT NULL,
	`rules` json NOT NULL,
	`reason` varchar(300) NOT NULL,
	CONSTRAINT `kept_kinds_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE INDEX `kept_kinds_volume` ON `kept_kinds` (`volume_id`);