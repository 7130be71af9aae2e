CREATE TABLE `mounts` (
	`volume_id` bigint NOT NULL,
	`station_id` bigint NOT NULL,
	`path` varchar(4096) NOT NULL,
	CONSTRAINT `mounts_volume_id_station_id_pk` PRIMARY KEY(`volume_id`,`station_id`)
);
--> statement-breakpoint
ALTER TABLE `receipts` MODIFY COLUMN `action` enum('caches removed','originals removed','archive sealed','project restored','work ended early','volume added','volume changed','volume retired','carrier added','state changed') NOT NULL;--> statement-breakpoint
ALTER TABLE `volumes` ADD `retired_at` datetime(3);