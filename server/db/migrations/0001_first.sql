CREATE TABLE `archive_copies` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`archive_id` bigint NOT NULL,
	`carrier_id` bigint NOT NULL,
	`state` enum('writing','good','damaged','ended early') NOT NULL,
	`written_at` datetime(3),
	`read_back_at` datetime(3),
	CONSTRAINT `archive_copies_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `archive_files` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`archive_id` bigint NOT NULL,
	`role` enum('media','document','original document') NOT NULL,
	`payload_path` varchar(4096) NOT NULL,
	`volume_id` bigint NOT NULL,
	`file_id` bigint NOT NULL,
	`path` varchar(4096) NOT NULL,
	`raw_path` varbinary(4096),
	`size_bytes` bigint NOT NULL,
	`modified_us` bigint NOT NULL,
	`payload_bytes` bigint,
	`sha512` char(128),
	`xxh128` char(32),
	`state` enum('waiting','copied','read back','held') NOT NULL DEFAULT 'waiting',
	`reason` enum('changed','gone','open','in use','not a file','outside','no good copy','unreachable','not permitted','name taken'),
	CONSTRAINT `archive_files_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `archives` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`project_id` bigint NOT NULL,
	`name` varchar(250) NOT NULL,
	`folder` varchar(250) NOT NULL,
	`state` enum('writing','sealed','ended early') NOT NULL,
	`files` bigint NOT NULL,
	`bytes` bigint NOT NULL,
	`sealed_at` datetime(3),
	`manifest_sha512` char(128),
	`job_id` bigint,
	CONSTRAINT `archives_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `bins` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`document_id` bigint NOT NULL,
	`parent_id` bigint,
	`name` varchar(1000) NOT NULL,
	CONSTRAINT `bins_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `carriers` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`name` varchar(60) NOT NULL,
	`type` enum('disk','tape','remote store') NOT NULL,
	`place` varchar(120) NOT NULL,
	`path` varchar(4096) NOT NULL,
	`capacity_bytes` bigint NOT NULL,
	`identity` varchar(64),
	`state` enum('reachable','unreachable','swapped','not looked at') NOT NULL DEFAULT 'not looked at',
	`seen_at` datetime(3),
	CONSTRAINT `carriers_id` PRIMARY KEY(`id`),
	CONSTRAINT `carriers_name` UNIQUE(`name`)
);
--> statement-breakpoint
CREATE TABLE `claims` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`project_id` bigint NOT NULL,
	`volume_id` bigint NOT NULL,
	`folder` varchar(4096) NOT NULL,
	`folder_hash` binary(16) NOT NULL,
	`reason` varchar(200) NOT NULL,
	CONSTRAINT `claims_id` PRIMARY KEY(`id`),
	CONSTRAINT `claims_folder` UNIQUE(`volume_id`,`folder_hash`)
);
--> statement-breakpoint
CREATE TABLE `clips` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`document_id` bigint NOT NULL,
	`bin_id` bigint,
	`media_id` bigint,
	`name` varchar(1020) NOT NULL,
	CONSTRAINT `clips_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `documents` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`project_id` bigint NOT NULL,
	`file_id` bigint NOT NULL,
	`name` varchar(1020) NOT NULL,
	`state` enum('read','broken') NOT NULL,
	`trouble` text,
	`read_size_bytes` bigint NOT NULL,
	`read_modified_us` bigint NOT NULL,
	`read_at` datetime(3) NOT NULL,
	CONSTRAINT `documents_id` PRIMARY KEY(`id`),
	CONSTRAINT `documents_file` UNIQUE(`file_id`)
);
--> statement-breakpoint
CREATE TABLE `files` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`volume_id` bigint NOT NULL,
	`folder_id` bigint NOT NULL,
	`name` varchar(1020) NOT NULL,
	`raw_name` varbinary(255),
	`size_bytes` bigint NOT NULL,
	`modified_us` bigint NOT NULL,
	`kind` enum('source','proxy','render','cache','audio','document','backup','library','delivery','other') NOT NULL,
	`project_id` bigint,
	`gone_at` datetime(3),
	CONSTRAINT `files_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `folder_holdings` (
	`folder_id` bigint NOT NULL,
	`kind` enum('source','proxy','render','cache','audio','document','backup','library','delivery','other') NOT NULL,
	`project_id` bigint NOT NULL,
	`day` int NOT NULL,
	`volume_id` bigint NOT NULL,
	`files` bigint NOT NULL,
	`bytes` bigint NOT NULL,
	`newest_us` bigint NOT NULL,
	CONSTRAINT `folder_holdings_folder_id_kind_project_id_day_pk` PRIMARY KEY(`folder_id`,`kind`,`project_id`,`day`)
);
--> statement-breakpoint
CREATE TABLE `folders` (
	`id` bigint NOT NULL,
	`volume_id` bigint NOT NULL,
	`parent_id` bigint,
	`name` varchar(1020) NOT NULL,
	`path` varchar(4096) NOT NULL,
	`path_hash` binary(16) NOT NULL,
	`raw_path` varbinary(4096),
	`project_id` bigint,
	`fingerprint` char(32),
	`total_files` bigint NOT NULL DEFAULT 0,
	`total_bytes` bigint NOT NULL DEFAULT 0,
	`seen_at` datetime(3),
	`gone_at` datetime(3),
	CONSTRAINT `folders_id` PRIMARY KEY(`id`),
	CONSTRAINT `folders_path` UNIQUE(`volume_id`,`path_hash`)
);
--> statement-breakpoint
CREATE TABLE `job_stores` (
	`job_id` bigint NOT NULL,
	`store` enum('volume','carrier') NOT NULL,
	`store_id` bigint NOT NULL,
	CONSTRAINT `job_stores_job_id_store_store_id_pk` PRIMARY KEY(`job_id`,`store`,`store_id`)
);
--> statement-breakpoint
CREATE TABLE `jobs` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`kind` enum('read volume','remove','archive','restore') NOT NULL,
	`title` varchar(500) NOT NULL,
	`params` json NOT NULL,
	`step_id` bigint,
	`who` varchar(120) NOT NULL,
	`state` enum('queued','running','done','failed','cancelled') NOT NULL DEFAULT 'queued',
	`phase` varchar(60) NOT NULL DEFAULT '',
	`unit` enum('bytes','files') NOT NULL DEFAULT 'bytes',
	`done` bigint NOT NULL DEFAULT 0,
	`total` bigint NOT NULL DEFAULT 0,
	`rate` bigint NOT NULL DEFAULT 0,
	`cancel_asked` boolean NOT NULL DEFAULT false,
	`worker` varchar(120),
	`lease` char(36),
	`lease_until` datetime(3),
	`attempts` int NOT NULL DEFAULT 0,
	`trouble` text,
	`created_at` datetime(3) NOT NULL,
	`started_at` datetime(3),
	`finished_at` datetime(3),
	CONSTRAINT `jobs_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `media` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`document_id` bigint NOT NULL,
	`project_id` bigint NOT NULL,
	`name` varchar(1020) NOT NULL,
	`place` enum('inside','outside','unknown','nowhere') NOT NULL,
	`targets` int NOT NULL,
	`found` int NOT NULL,
	`start_frame` bigint,
	`duration_frames` bigint,
	`rate_num` int,
	`rate_den` int,
	`used` boolean NOT NULL,
	CONSTRAINT `media_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `media_targets` (
	`media_id` bigint NOT NULL,
	`ord` int NOT NULL,
	`target` varchar(4096) NOT NULL,
	`file_id` bigint,
	CONSTRAINT `media_targets_media_id_ord_pk` PRIMARY KEY(`media_id`,`ord`)
);
--> statement-breakpoint
CREATE TABLE `plans` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`state` enum('draft','running','done','emptied') NOT NULL,
	`version` int NOT NULL DEFAULT 1,
	`draft` int,
	`created_at` datetime(3) NOT NULL,
	`run_by` varchar(120),
	`run_at` datetime(3),
	`done_at` datetime(3),
	CONSTRAINT `plans_id` PRIMARY KEY(`id`),
	CONSTRAINT `plans_draft` UNIQUE(`draft`)
);
--> statement-breakpoint
CREATE TABLE `projects` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`name` varchar(250) NOT NULL,
	`slug` varchar(250) NOT NULL,
	`state` enum('planned','in work','finishing','delivered','archived') NOT NULL,
	`state_since` datetime(3) NOT NULL,
	CONSTRAINT `projects_id` PRIMARY KEY(`id`),
	CONSTRAINT `projects_slug` UNIQUE(`slug`)
);
--> statement-breakpoint
CREATE TABLE `reading_notices` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`reading_id` bigint NOT NULL,
	`path` varchar(4096) NOT NULL,
	`code` varchar(40) NOT NULL,
	`detail` varchar(1000) NOT NULL,
	CONSTRAINT `reading_notices_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `readings` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`volume_id` bigint NOT NULL,
	`started_at` datetime(3) NOT NULL,
	`finished_at` datetime(3),
	`looked` bigint NOT NULL DEFAULT 0,
	`added` bigint NOT NULL DEFAULT 0,
	`changed` bigint NOT NULL DEFAULT 0,
	`gone` bigint NOT NULL DEFAULT 0,
	`notices` bigint NOT NULL DEFAULT 0,
	CONSTRAINT `readings_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `receipts` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`at` datetime(3) NOT NULL,
	`who` varchar(120) NOT NULL,
	`action` enum('caches removed','originals removed','archive sealed','project restored','work ended early','volume added','state changed') NOT NULL,
	`title` varchar(500) NOT NULL,
	`project_id` bigint,
	`job_id` bigint,
	`step_id` bigint,
	`files` bigint NOT NULL,
	`bytes` bigint NOT NULL,
	`held` bigint NOT NULL,
	`facts` json NOT NULL,
	`items_sha256` char(64) NOT NULL,
	`chain_sha256` char(64) NOT NULL,
	CONSTRAINT `receipts_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `site` (
	`key` varchar(64) NOT NULL,
	`value` text NOT NULL,
	CONSTRAINT `site_key` PRIMARY KEY(`key`)
);
--> statement-breakpoint
CREATE TABLE `stations` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`name` varchar(120) NOT NULL,
	`role` enum('workstation','server','portable') NOT NULL,
	CONSTRAINT `stations_id` PRIMARY KEY(`id`),
	CONSTRAINT `stations_name` UNIQUE(`name`)
);
--> statement-breakpoint
CREATE TABLE `step_items` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`step_id` bigint NOT NULL,
	`volume_id` bigint NOT NULL,
	`file_id` bigint NOT NULL,
	`path` varchar(4096) NOT NULL,
	`raw_path` varbinary(4096),
	`size_bytes` bigint NOT NULL,
	`modified_us` bigint NOT NULL,
	`state` enum('waiting','started','done','held') NOT NULL DEFAULT 'waiting',
	`reason` enum('changed','gone','open','in use','not a file','outside','no good copy','unreachable','not permitted','name taken'),
	`detail` varchar(1000),
	CONSTRAINT `step_items_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `steps` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`plan_id` bigint NOT NULL,
	`what` json NOT NULL,
	`title` varchar(500) NOT NULL,
	`files` bigint NOT NULL,
	`bytes` bigint NOT NULL,
	`job_id` bigint,
	CONSTRAINT `steps_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `timelines` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`document_id` bigint NOT NULL,
	`bin_id` bigint,
	`name` varchar(1020) NOT NULL,
	`duration_frames` bigint NOT NULL,
	`rate_num` int NOT NULL,
	`rate_den` int NOT NULL,
	CONSTRAINT `timelines_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `uses` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`timeline_id` bigint NOT NULL,
	`media_id` bigint NOT NULL,
	`start_frame` bigint NOT NULL,
	`duration_frames` bigint NOT NULL,
	`rate_num` int NOT NULL,
	`rate_den` int NOT NULL,
	CONSTRAINT `uses_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `volume_holdings` (
	`volume_id` bigint NOT NULL,
	`project_id` bigint NOT NULL,
	`kind` enum('source','proxy','render','cache','audio','document','backup','library','delivery','other') NOT NULL,
	`day` int NOT NULL,
	`files` bigint NOT NULL,
	`bytes` bigint NOT NULL,
	CONSTRAINT `volume_holdings_volume_id_project_id_kind_day_pk` PRIMARY KEY(`volume_id`,`project_id`,`kind`,`day`)
);
--> statement-breakpoint
CREATE TABLE `volumes` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`station_id` bigint NOT NULL,
	`name` varchar(120) NOT NULL,
	`path` varchar(4096) NOT NULL,
	`duty` enum('source','renders','cache','documents','backups','library','deliveries','none') NOT NULL,
	`capacity_bytes` bigint NOT NULL,
	`quota` boolean NOT NULL,
	`free_bytes` bigint NOT NULL DEFAULT 0,
	`identity` varchar(64),
	`state` enum('reachable','unreachable','swapped','not looked at') NOT NULL DEFAULT 'not looked at',
	`seen_at` datetime(3),
	`read_at` datetime(3),
	CONSTRAINT `volumes_id` PRIMARY KEY(`id`),
	CONSTRAINT `volumes_name` UNIQUE(`name`)
);
--> statement-breakpoint
CREATE INDEX `archive_copies_archive` ON `archive_copies` (`archive_id`);--> statement-breakpoint
CREATE INDEX `archive_copies_carrier` ON `archive_copies` (`carrier_id`);--> statement-breakpoint
CREATE INDEX `archive_files_archive` ON `archive_files` (`archive_id`);--> statement-breakpoint
CREATE INDEX `archive_files_file` ON `archive_files` (`file_id`);--> statement-breakpoint
CREATE INDEX `archives_project` ON `archives` (`project_id`);--> statement-breakpoint
CREATE INDEX `bins_document` ON `bins` (`document_id`);--> statement-breakpoint
CREATE INDEX `claims_project` ON `claims` (`project_id`);--> statement-breakpoint
CREATE INDEX `clips_document` ON `clips` (`document_id`,`bin_id`);--> statement-breakpoint
CREATE INDEX `clips_media` ON `clips` (`media_id`);--> statement-breakpoint
CREATE INDEX `documents_project` ON `documents` (`project_id`);--> statement-breakpoint
CREATE INDEX `files_folder` ON `files` (`folder_id`);--> statement-breakpoint
CREATE INDEX `files_project` ON `files` (`project_id`);--> statement-breakpoint
CREATE INDEX `folder_holdings_kind` ON `folder_holdings` (`kind`,`volume_id`);--> statement-breakpoint
CREATE INDEX `folders_parent` ON `folders` (`parent_id`);--> statement-breakpoint
CREATE INDEX `jobs_state` ON `jobs` (`state`,`id`);--> statement-breakpoint
CREATE INDEX `media_document` ON `media` (`document_id`);--> statement-breakpoint
CREATE INDEX `media_project` ON `media` (`project_id`);--> statement-breakpoint
CREATE INDEX `media_targets_file` ON `media_targets` (`file_id`);--> statement-breakpoint
CREATE INDEX `reading_notices_reading` ON `reading_notices` (`reading_id`);--> statement-breakpoint
CREATE INDEX `step_items_state` ON `step_items` (`step_id`,`state`);--> statement-breakpoint
CREATE INDEX `steps_plan` ON `steps` (`plan_id`);--> statement-breakpoint
CREATE INDEX `timelines_document` ON `timelines` (`document_id`);--> statement-breakpoint
CREATE INDEX `uses_timeline` ON `uses` (`timeline_id`);--> statement-breakpoint
CREATE INDEX `uses_media` ON `uses` (`media_id`);--> statement-breakpoint
CREATE INDEX `volume_holdings_project` ON `volume_holdings` (`project_id`);