CREATE TABLE `worth_lines` (
	`run` int NOT NULL,
	`what` enum('caches','renders','proxies','unused media','same twice','old backups','left behind','nobody’s') NOT NULL,
	`volume_id` bigint NOT NULL,
	`folder_id` bigint NOT NULL,
	`project_id` bigint NOT NULL,
	`level` int NOT NULL,
	`reason` enum('rebuilds itself','rendered again','no timeline known','source is found','source not found','no timeline uses it','in a bin alone','named by nothing','kept elsewhere','enough newer ones','project is archived','project is delivered','belongs to nobody') NOT NULL,
	`files` bigint NOT NULL,
	`bytes` bigint NOT NULL,
	`day` int NOT NULL,
	CONSTRAINT `worth_lines_run_folder_id_what_project_id_level_reason_pk` PRIMARY KEY(`run`,`folder_id`,`what`,`project_id`,`level`,`reason`)
);
--> statement-breakpoint
DROP INDEX `worth_group` ON `worth`;--> statement-breakpoint
CREATE INDEX `worth_lines_largest` ON `worth_lines` (`run`,`what`,`bytes`);--> statement-breakpoint
CREATE INDEX `worth_folder` ON `worth` (`run`,`folder_id`);