CREATE TABLE `file_sums` (
	`file_id` bigint NOT NULL,
	`size_bytes` bigint NOT NULL,
	`modified_us` bigint NOT NULL,
	`inode` bigint,
	`changed_us` bigint,
	`xxh64` char(16) NOT NULL,
	CONSTRAINT `file_sums_file_id` PRIMARY KEY(`file_id`)
);
--> statement-breakpoint
CREATE TABLE `worth` (
	`run` int NOT NULL,
	`file_id` bigint NOT NULL,
	`volume_id` bigint NOT NULL,
	`folder_id` bigint NOT NULL,
	`project_id` bigint NOT NULL,
	`what` enum('caches','renders','proxies','unused media','same twice','old backups','left behind','nobody’s') NOT NULL,
	`level` int NOT NULL,
	`reason` enum('rebuilds itself','rendered again','no timeline known','source is found','source not found','no timeline uses it','in a bin alone','named by nothing','kept elsewhere','enough newer ones','project is archived','project is delivered','belongs to nobody') NOT NULL,
	`other` bigint,
	`size_bytes` bigint NOT NULL,
	`day` int NOT NULL,
	CONSTRAINT `worth_run_file_id_pk` PRIMARY KEY(`run`,`file_id`)
);
--> statement-breakpoint
CREATE TABLE `worth_sums` (
	`run` int NOT NULL,
	`what` enum('caches','renders','proxies','unused media','same twice','old backups','left behind','nobody’s') NOT NULL,
	`volume_id` bigint NOT NULL,
	`project_id` bigint NOT NULL,
	`level` int NOT NULL,
	`files` bigint NOT NULL,
	`bytes` bigint NOT NULL,
	CONSTRAINT `worth_sums_run_what_volume_id_project_id_level_pk` PRIMARY KEY(`run`,`what`,`volume_id`,`project_id`,`level`)
);
--> statement-breakpoint
CREATE INDEX `file_sums_same` ON `file_sums` (`size_bytes`,`xxh64`);--> statement-breakpoint
CREATE INDEX `worth_group` ON `worth` (`run`,`what`,`volume_id`,`folder_id`,`project_id`,`level`,`reason`,`size_bytes`,`day`);