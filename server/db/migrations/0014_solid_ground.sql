ALTER TABLE `jobs` MODIFY COLUMN `kind` varchar(60) NOT NULL, ADD `mark` char(36) NOT NULL DEFAULT '', ADD `crashes` int NOT NULL DEFAULT 0, ADD `quiet` boolean NOT NULL DEFAULT false;
--> statement-breakpoint
UPDATE jobs SET mark = UUID() WHERE mark = '';
--> statement-breakpoint
ALTER TABLE `jobs` MODIFY COLUMN `mark` char(36) NOT NULL;
--> statement-breakpoint
UPDATE jobs j JOIN steps s ON s.id = j.step_id SET j.kind = CONVERT(JSON_VALUE(s.what, '$.kind') USING utf8mb4);
--> statement-breakpoint
ALTER TABLE `job_stores` MODIFY COLUMN `store` enum('volume','carrier','catalogue') NOT NULL, ADD `mode` enum('look','change') NOT NULL DEFAULT 'change';
--> statement-breakpoint
ALTER TABLE `job_stores` MODIFY COLUMN `mode` enum('look','change') NOT NULL;
--> statement-breakpoint
CREATE INDEX `job_stores_store` ON `job_stores` (`store`,`store_id`);
--> statement-breakpoint
ALTER TABLE `receipts` MODIFY COLUMN `action` varchar(60) NOT NULL;
--> statement-breakpoint
ALTER TABLE `documents` MODIFY COLUMN `format` varchar(40) NOT NULL DEFAULT 'otio';
--> statement-breakpoint
ALTER TABLE `volumes` ADD `device` bigint;
--> statement-breakpoint
ALTER TABLE `files` ADD `inode` bigint, ADD `changed_us` bigint;
--> statement-breakpoint
ALTER TABLE `step_items` ADD `device` bigint, ADD `inode` bigint, ADD `changed_us` bigint, ADD `xxh64` char(16), ADD `copy_device` bigint, ADD `copy_inode` bigint, DROP COLUMN `xxh128`, MODIFY COLUMN `reason` varchar(40), MODIFY COLUMN `state` enum('waiting','started','taken','done','held') NOT NULL DEFAULT 'waiting';
--> statement-breakpoint
ALTER TABLE `carriers` CHANGE `type` `kind` varchar(40) NOT NULL, ADD `settings` json, ADD `free_bytes` bigint;
--> statement-breakpoint
UPDATE carriers SET kind = 'disk', settings = JSON_OBJECT('folder', path);
--> statement-breakpoint
ALTER TABLE `carriers` MODIFY COLUMN `settings` json NOT NULL, DROP COLUMN `path`;
--> statement-breakpoint
CREATE TABLE `workers` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`name` varchar(120) NOT NULL,
	`machine` varchar(120) NOT NULL,
	`seen_at` datetime(3) NOT NULL,
	CONSTRAINT `workers_id` PRIMARY KEY(`id`),
	CONSTRAINT `workers_name` UNIQUE(`name`)
);
--> statement-breakpoint
CREATE TABLE `worker_reach` (
	`worker_id` bigint NOT NULL,
	`store` enum('volume','carrier') NOT NULL,
	`store_id` bigint NOT NULL,
	`path` varchar(4096) NOT NULL,
	`state` enum('reachable','unreachable','swapped','not looked at') NOT NULL,
	`seen_at` datetime(3) NOT NULL,
	CONSTRAINT `worker_reach_worker_id_store_store_id_pk` PRIMARY KEY(`worker_id`,`store`,`store_id`)
);
--> statement-breakpoint
CREATE INDEX `worker_reach_store` ON `worker_reach` (`store`,`store_id`);
--> statement-breakpoint
CREATE TABLE `posters` (
	`file_id` bigint NOT NULL,
	`moment` int NOT NULL,
	`modified_us` bigint NOT NULL,
	`picture` mediumblob,
	`bytes` int NOT NULL,
	`seen_at` datetime(3) NOT NULL,
	CONSTRAINT `posters_file_id_moment_pk` PRIMARY KEY(`file_id`,`moment`)
);
--> statement-breakpoint
CREATE INDEX `posters_seen` ON `posters` (`seen_at`);
--> statement-breakpoint
CREATE TABLE `archive_parts` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`archive_id` bigint NOT NULL,
	`ord` int NOT NULL,
	`folder` varchar(250) NOT NULL,
	`files` bigint NOT NULL,
	`bytes` bigint NOT NULL,
	`manifest_sha512` char(128),
	CONSTRAINT `archive_parts_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE INDEX `archive_parts_archive` ON `archive_parts` (`archive_id`);
--> statement-breakpoint
CREATE TABLE `copy_parts` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`copy_id` bigint NOT NULL,
	`part_id` bigint NOT NULL,
	`carrier_id` bigint NOT NULL,
	`position` varchar(200),
	`state` enum('writing','good','damaged','ended early') NOT NULL,
	`read_back_at` datetime(3),
	CONSTRAINT `copy_parts_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE INDEX `copy_parts_copy` ON `copy_parts` (`copy_id`);
--> statement-breakpoint
CREATE INDEX `copy_parts_carrier` ON `copy_parts` (`carrier_id`);
--> statement-breakpoint
CREATE TABLE `copy_files` (
	`copy_part_id` bigint NOT NULL,
	`archive_file_id` bigint NOT NULL,
	`state` enum('written','read back','damaged') NOT NULL,
	`read_back_at` datetime(3),
	CONSTRAINT `copy_files_copy_part_id_archive_file_id_pk` PRIMARY KEY(`copy_part_id`,`archive_file_id`)
);
--> statement-breakpoint
INSERT INTO archive_parts (archive_id, ord, folder, files, bytes, manifest_sha512) SELECT id, 1, folder, files, bytes, manifest_sha512 FROM archives;
--> statement-breakpoint
INSERT INTO copy_parts (copy_id, part_id, carrier_id, state, read_back_at) SELECT c.id, p.id, c.carrier_id, c.state, c.read_back_at FROM archive_copies c JOIN archive_parts p ON p.archive_id = c.archive_id;
--> statement-breakpoint
ALTER TABLE `archive_files` ADD `part_id` bigint, ADD `device` bigint, ADD `inode` bigint, ADD `changed_us` bigint, ADD `xxh64` char(16);
--> statement-breakpoint
UPDATE archive_files f JOIN archive_parts p ON p.archive_id = f.archive_id SET f.part_id = p.id;
--> statement-breakpoint
INSERT INTO copy_files (copy_part_id, archive_file_id, state, read_back_at)
  SELECT cp.id, f.id, IF(f.state = 'read back', 'read back', 'written'), cp.read_back_at
  FROM archive_files f JOIN copy_parts cp ON cp.part_id = f.part_id WHERE f.state IN ('copied', 'read back');
--> statement-breakpoint
ALTER TABLE `archive_files` MODIFY COLUMN `part_id` bigint NOT NULL, DROP COLUMN `state`, DROP COLUMN `reason`, DROP COLUMN `xxh128`;
--> statement-breakpoint
ALTER TABLE `archive_copies` DROP INDEX `archive_copies_carrier`, DROP COLUMN `carrier_id`;
--> statement-breakpoint
ALTER TABLE `archives` ADD `packer` varchar(40) NOT NULL DEFAULT 'folder', DROP COLUMN `manifest_sha512`;
--> statement-breakpoint
INSERT INTO site (`key`, `value`) SELECT 'mark', LOWER(CONCAT_WS('-', HEX(RANDOM_BYTES(4)), HEX(RANDOM_BYTES(2)), HEX(RANDOM_BYTES(2)), HEX(RANDOM_BYTES(2)), HEX(RANDOM_BYTES(6)))) FROM DUAL WHERE NOT EXISTS (SELECT 1 FROM site WHERE `key` = 'mark');
--> statement-breakpoint
ALTER TABLE `media` DROP INDEX `media_lacks`, DROP COLUMN `lacks`, ADD `incomplete` boolean GENERATED ALWAYS AS (found < GREATEST(targets, 1)) STORED;
--> statement-breakpoint
CREATE INDEX `media_incomplete` ON `media` (`incomplete`,`project_id`);
