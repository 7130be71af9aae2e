CREATE TABLE `essence` (
	`file_id` bigint NOT NULL,
	`read_size_bytes` bigint NOT NULL,
	`read_modified_us` bigint NOT NULL,
	`format` varchar(40) NOT NULL,
	`codec` varchar(80),
	`width` int,
	`height` int,
	`channels` int,
	`sample_rate` int,
	`rate_num` int,
	`rate_den` int,
	`duration_frames` bigint,
	`start_frame` bigint,
	`drop_frame` boolean,
	`reel` varchar(120),
	`trouble` varchar(500),
	CONSTRAINT `essence_file_id` PRIMARY KEY(`file_id`)
);
--> statement-breakpoint
CREATE TABLE `sample_sums` (
	`volume_id` bigint NOT NULL,
	`day` int NOT NULL,
	`bytes` bigint NOT NULL,
	CONSTRAINT `sample_sums_volume_id_day_pk` PRIMARY KEY(`volume_id`,`day`)
);
--> statement-breakpoint
CREATE TABLE `volume_sums` (
	`volume_id` bigint NOT NULL,
	`project_id` bigint NOT NULL,
	`kind` enum('source','proxy','render','cache','audio','document','backup','library','delivery','other') NOT NULL,
	`files` bigint NOT NULL,
	`bytes` bigint NOT NULL,
	CONSTRAINT `volume_sums_volume_id_project_id_kind_pk` PRIMARY KEY(`volume_id`,`project_id`,`kind`)
);
--> statement-breakpoint
DROP INDEX `folder_holdings_kind` ON `folder_holdings`;--> statement-breakpoint
ALTER TABLE `archive_files` MODIFY COLUMN `reason` enum('changed','gone','open','in use','not a file','outside','no good copy','unreachable','not permitted','name taken','copy differs','name unreadable');--> statement-breakpoint
ALTER TABLE `step_items` MODIFY COLUMN `reason` enum('changed','gone','open','in use','not a file','outside','no good copy','unreachable','not permitted','name taken','copy differs','name unreadable');--> statement-breakpoint
ALTER TABLE `documents` ADD `format` enum('otio','edl','dawproject') DEFAULT 'otio' NOT NULL;--> statement-breakpoint
ALTER TABLE `media` ADD `reel` varchar(120);--> statement-breakpoint
ALTER TABLE `media` ADD `ranges` json;--> statement-breakpoint
ALTER TABLE `media` ADD `timeline_ids` json;--> statement-breakpoint
ALTER TABLE `uses` ADD `enabled` boolean DEFAULT true NOT NULL;--> statement-breakpoint
ALTER TABLE `uses` ADD `sound` boolean DEFAULT false NOT NULL;--> statement-breakpoint
CREATE INDEX `essence_reel` ON `essence` (`reel`);--> statement-breakpoint
CREATE INDEX `volume_sums_project` ON `volume_sums` (`project_id`);--> statement-breakpoint
CREATE INDEX `volume_holdings_day` ON `volume_holdings` (`day`,`volume_id`,`files`,`bytes`);--> statement-breakpoint
CREATE INDEX `folder_holdings_kind` ON `folder_holdings` (`kind`,`volume_id`,`folder_id`,`project_id`,`day`,`files`,`bytes`,`newest_us`);
--> statement-breakpoint
INSERT INTO volume_sums (volume_id, project_id, kind, files, bytes) SELECT volume_id, project_id, kind, SUM(files), SUM(bytes) FROM volume_holdings GROUP BY volume_id, project_id, kind;
--> statement-breakpoint
INSERT INTO sample_sums (volume_id, day, bytes) SELECT volume_id, day, SUM(bytes) FROM samples GROUP BY volume_id, day;
--> statement-breakpoint
UPDATE documents SET read_modified_us = -1;
