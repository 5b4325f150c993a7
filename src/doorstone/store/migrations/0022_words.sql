-- The word size of a processor is part of a class where a sheet looks at that of the system, and facts that are compared
-- are so although they are tested alone, too: all devices are placed anew there.
UPDATE change_counters SET day = '9999-12-31'
WHERE day <> '' AND EXISTS (
    SELECT 1 FROM sheets WHERE INSTR(text, 'os.arch') OR INSTR(text, 'same_as') OR INSTR(text, 'includes')
);
