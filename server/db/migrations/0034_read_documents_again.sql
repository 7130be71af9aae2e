-- Documents are told by references since spans were kept: those that were read before are read once more at the next reading.
UPDATE `documents` SET `read_modified_us` = 0 WHERE `format` = 'otio' AND `state` = 'read';
