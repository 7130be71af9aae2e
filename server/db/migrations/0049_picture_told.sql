ALTER TABLE `media` ADD `picture_width` int;--> statement-breakpoint
ALTER TABLE `media` ADD `picture_height` int;--> statement-breakpoint
-- What documents tell of pictures was not kept: those that tell it are read once more.
UPDATE `documents` SET `read_modified_us` = 0 WHERE `format` = 'otio' AND `state` = 'read';
