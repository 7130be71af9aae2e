CREATE TABLE `handed_over` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`volume_id` bigint NOT NULL,
	`folder` varchar(250) NOT NULL,
	`project_id` bigint NOT NULL,
	`to_whom` varchar(120) NOT NULL,
	`at` datetime(3) NOT NULL,
	`files` bigint NOT NULL,
	`bytes` bigint NOT NULL,
	CONSTRAINT `handed_over_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
ALTER TABLE `copy_parts` MODIFY COLUMN `carrier_id` bigint;--> statement-breakpoint
ALTER TABLE `archives` ADD `purpose` enum('archive','hand over') DEFAULT 'archive' NOT NULL;--> statement-breakpoint
CREATE INDEX `handed_over_volume` ON `handed_over` (`volume_id`);