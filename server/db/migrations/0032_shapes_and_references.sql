CREATE TABLE `shapes` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`name` varchar(120) NOT NULL,
	`scope` json NOT NULL,
	`saved_by` varchar(120) NOT NULL,
	`saved_at` datetime(3) NOT NULL,
	CONSTRAINT `shapes_id` PRIMARY KEY(`id`),
	CONSTRAINT `shapes_name` UNIQUE(`name`)
);
--> statement-breakpoint
ALTER TABLE `uses` ADD `reference` int DEFAULT -1 NOT NULL;