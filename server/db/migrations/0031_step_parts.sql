CREATE TABLE `step_parts` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`step_id` bigint NOT NULL,
	`file_id` bigint NOT NULL,
	`part_from` bigint NOT NULL,
	`part_to` bigint NOT NULL,
	`size_bytes` bigint NOT NULL,
	`measured` boolean NOT NULL DEFAULT false,
	`why_whole` varchar(250),
	CONSTRAINT `step_parts_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE INDEX `step_parts_step` ON `step_parts` (`step_id`,`measured`);