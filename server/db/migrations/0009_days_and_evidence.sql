CREATE TABLE `volume_days` (
	`volume_id` bigint NOT NULL,
	`day` int NOT NULL,
	`files` bigint NOT NULL,
	`bytes` bigint NOT NULL,
	CONSTRAINT `volume_days_volume_id_day_pk` PRIMARY KEY(`volume_id`,`day`)
);
--> statement-breakpoint
DROP INDEX `volume_holdings_day` ON `volume_holdings`;--> statement-breakpoint
ALTER TABLE `media` MODIFY COLUMN `place` enum('inside','outside','unknown','nowhere','bundled') NOT NULL;--> statement-breakpoint
ALTER TABLE `media_targets` ADD `found_by` enum('path','evidence') DEFAULT 'path' NOT NULL;--> statement-breakpoint
INSERT INTO volume_days (volume_id, day, files, bytes) SELECT volume_id, day, SUM(files), SUM(bytes) FROM volume_holdings GROUP BY volume_id, day;
