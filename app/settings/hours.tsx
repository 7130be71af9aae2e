// The hours of what happens by itself: those of the house, and of one kind of work where it has its own.
import { useState } from 'react';
import {
  dayName,
  type HourOf,
  type HouseHours,
  type Hours as Own,
  hoursFor,
  hoursWords,
  NIGHT_WORKS,
  WEEK,
  WORK_NAMES,
} from '#core/nights/hours.ts';
import { inputLook } from '../ui/parts';
import { Select } from '../ui/select';
import { RuleForm } from './rule-form';

const CLOCK = Array.from({ length: 24 }, (_, hour) => hour);

export function Hours({ hours }: { hours: HouseHours }) {
  const [said, setSaid] = useState(hours);
  const setOwn = (work: HourOf, own: Own | null) => {
    const { [work]: _before, ...rest } = said.own;
    setSaid({ ...said, own: own === null ? rest : { ...rest, [work]: own } });
  };
  return (
    <RuleForm title="When what needs nobody is done" intent="hours">
      <input type="hidden" name="hours" value={JSON.stringify(said)} />
      <fieldset className="grid gap-2">
        <legend className="font-medium">The house</legend>
        <Span name="The house" own={said.night} set={(night) => setSaid({ ...said, night })} />
      </fieldset>
      {NIGHT_WORKS.map((work) => {
        const own = said.own[work];
        const usual = hoursFor({ ...said, own: {} }, work);
        return (
          <fieldset key={work} className="grid gap-2 border-t border-line-soft pt-3">
            <legend className="sr-only">{WORK_NAMES[work]}</legend>
            <div className="grid grid-cols-[minmax(0,1fr)_200px] items-center gap-3">
              <span className="font-medium">{WORK_NAMES[work]}</span>
              <Select
                aria-label={`Hours of: ${WORK_NAMES[work]}`}
                className={inputLook}
                value={own ? 'own' : ''}
                onChange={({ target }) => setOwn(work, target.value === 'own' ? (usual ?? said.night) : null)}
              >
                <option value="">{usual ? 'as the house' : 'whenever it is due'}</option>
                <option value="own">hours of its own</option>
              </Select>
            </div>
            {own && <Span name={WORK_NAMES[work]} own={own} set={(next) => setOwn(work, next)} />}
          </fieldset>
        );
      })}
      <p className="text-[13px] text-ink-2">
        By the clock of the house. Hours that end before they begin go over midnight, and belong to the day they begin
        on. What was not done in its hours goes on in the next; a backup of the catalogue that was missed is made up for
        at once.
      </p>
    </RuleForm>
  );
}

function Span({ name, own, set }: { name: string; own: Own; set: (own: Own) => void }) {
  const { from, to, days } = own;
  return (
    <div className="grid gap-2">
      <div className="flex flex-wrap items-center gap-x-2 gap-y-1.5">
        <Hour label={`${name}: from`} value={from} set={(hour) => set({ ...own, from: hour })} />
        <span className="text-ink-2">to</span>
        <Hour label={`${name}: to`} value={to} set={(hour) => set({ ...own, to: hour })} />
        <span className="ml-2 flex flex-wrap gap-x-3 gap-y-1">
          {WEEK.map((day) => (
            <label key={day} className="flex items-center gap-1.5">
              <input
                type="checkbox"
                aria-label={`${name}: ${dayName(day)}`}
                className="accent-accent"
                checked={days.includes(day)}
                onChange={({ currentTarget: { checked } }) =>
                  set({ ...own, days: checked ? [...days, day] : days.filter((one) => one !== day) })
                }
              />
              {dayName(day).slice(0, 3)}
            </label>
          ))}
        </span>
      </div>
      <p role="status" className="text-[13px] text-ink-2">
        {days.length === 0 ? 'Never: no day is chosen.' : `That is ${hoursWords(own)}.`}
      </p>
    </div>
  );
}

function Hour({ label, value, set }: { label: string; value: number; set: (hour: number) => void }) {
  return (
    <span className="w-24">
      <Select
        aria-label={label}
        className={inputLook}
        value={value}
        onChange={({ target }) => set(Number(target.value))}
      >
        {CLOCK.map((hour) => (
          <option key={hour} value={hour}>{`${hour}:00`}</option>
        ))}
      </Select>
    </span>
  );
}
