CREATE TABLE `project_states` (
	`project_id` bigint NOT NULL,
	`state` enum('planned','in work','finishing','delivered','archived') NOT NULL,
	`since` datetime(3) NOT NULL,
	CONSTRAINT `project_states_project_id_state_pk` PRIMARY KEY(`project_id`,`state`)
);
--> statement-breakpoint
CREATE TABLE `project_sums` (
	`project_id` bigint NOT NULL,
	`media` bigint NOT NULL,
	`missing` bigint NOT NULL,
	`unused_bytes` bigint NOT NULL,
	CONSTRAINT `project_sums_project_id` PRIMARY KEY(`project_id`)
);
--> statement-breakpoint
CREATE TABLE `strays` (
	`project_id` bigint NOT NULL,
	`kind` enum('source','proxy','render','cache','audio','document','backup','library','delivery','other') NOT NULL,
	`volume_id` bigint NOT NULL,
	`files` bigint NOT NULL,
	`bytes` bigint NOT NULL,
	CONSTRAINT `strays_project_id_kind_volume_id_pk` PRIMARY KEY(`project_id`,`kind`,`volume_id`)
);
--> statement-breakpoint
CREATE TABLE `templates` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`name` varchar(120) NOT NULL,
	`homes` json NOT NULL,
	CONSTRAINT `templates_id` PRIMARY KEY(`id`),
	CONSTRAINT `templates_name` UNIQUE(`name`)
);
--> statement-breakpoint
ALTER TABLE `jobs` MODIFY COLUMN `kind` enum('read volume','remove','archive','restore','move','make folders','apply kinds') NOT NULL;--> statement-breakpoint
ALTER TABLE `receipts` MODIFY COLUMN `action` enum('caches removed','originals removed','archive sealed','project restored','work ended early','volume added','volume changed','volume retired','carrier added','state changed','home changed','files moved','folders made','project added','project changed','kinds changed','template changed','station retired') NOT NULL;--> statement-breakpoint
ALTER TABLE `claims` ADD `settled` boolean DEFAULT false NOT NULL;--> statement-breakpoint
ALTER TABLE `documents` ADD `superseded_by` bigint;--> statement-breakpoint
ALTER TABLE `folder_holdings` ADD `oldest_us` bigint DEFAULT 0 NOT NULL;--> statement-breakpoint
ALTER TABLE `folder_holdings` ADD `largest_bytes` bigint DEFAULT 0 NOT NULL;--> statement-breakpoint
ALTER TABLE `folders` ADD `depth` int GENERATED ALWAYS AS ((IF(path = '', 0, 1 + CHAR_LENGTH(path) - CHAR_LENGTH(REPLACE(path, '/', ''))))) STORED;--> statement-breakpoint
ALTER TABLE `projects` ADD `origin` enum('documents','folder','template') DEFAULT 'documents' NOT NULL;--> statement-breakpoint
ALTER TABLE `projects` ADD `client` varchar(200) DEFAULT '' NOT NULL;--> statement-breakpoint
ALTER TABLE `projects` ADD `year` int;--> statement-breakpoint
ALTER TABLE `projects` ADD `people` text DEFAULT ('') NOT NULL;--> statement-breakpoint
ALTER TABLE `projects` ADD `private_notes` text DEFAULT ('') NOT NULL;--> statement-breakpoint
ALTER TABLE `projects` ADD `public_comments` text DEFAULT ('') NOT NULL;--> statement-breakpoint
ALTER TABLE `stations` ADD `retired_at` datetime(3);--> statement-breakpoint
ALTER TABLE `step_items` ADD `target_path` varchar(4096);--> statement-breakpoint
ALTER TABLE `step_items` ADD `xxh128` char(32);--> statement-breakpoint
ALTER TABLE `volumes` ADD `system_drive` boolean DEFAULT false NOT NULL;--> statement-breakpoint
ALTER TABLE `volumes` ADD `portable` boolean DEFAULT false NOT NULL;--> statement-breakpoint
ALTER TABLE `volumes` ADD `shared` boolean DEFAULT false NOT NULL;--> statement-breakpoint
ALTER TABLE `volumes` ADD `link_mbits` int;--> statement-breakpoint
ALTER TABLE `volumes` ADD `read_only` boolean DEFAULT false NOT NULL;--> statement-breakpoint
CREATE INDEX `folder_holdings_project` ON `folder_holdings` (`project_id`,`kind`);--> statement-breakpoint
CREATE INDEX `folder_holdings_largest` ON `folder_holdings` (`largest_bytes`);--> statement-breakpoint
CREATE INDEX `folder_holdings_newest` ON `folder_holdings` (`newest_us`);--> statement-breakpoint
CREATE INDEX `folder_holdings_oldest` ON `folder_holdings` (`oldest_us`);--> statement-breakpoint
CREATE INDEX `folders_depth` ON `folders` (`depth`);--> statement-breakpoint
CREATE INDEX `step_items_file` ON `step_items` (`file_id`);--> statement-breakpoint
UPDATE folder_holdings h JOIN (
  SELECT folder_id, kind, COALESCE(project_id, 0) AS project_id, FLOOR(modified_us / 86400000000) AS touched, MIN(modified_us) AS oldest, MAX(size_bytes) AS largest
  FROM files WHERE gone_at IS NULL GROUP BY folder_id, kind, COALESCE(project_id, 0), touched) x
  ON x.folder_id = h.folder_id AND x.kind = h.kind AND x.project_id = h.project_id AND x.touched = h.day
SET h.oldest_us = x.oldest, h.largest_bytes = x.largest;
--> statement-breakpoint
INSERT INTO project_states (project_id, state, since) SELECT id, state, state_since FROM projects;
--> statement-breakpoint
UPDATE volumes v JOIN stations s ON s.id = v.station_id SET v.portable = (s.role = 'portable'), v.shared = (s.role = 'server');
