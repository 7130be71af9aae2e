CREATE TABLE `samples` (
	`volume_id` bigint NOT NULL,
	`day` int NOT NULL,
	`project_id` bigint NOT NULL,
	`kind` enum('source','proxy','render','cache','audio','document','backup','library','delivery','other') NOT NULL,
	`files` bigint NOT NULL,
	`bytes` bigint NOT NULL,
	CONSTRAINT `samples_volume_id_day_project_id_kind_pk` PRIMARY KEY(`volume_id`,`day`,`project_id`,`kind`)
);
