-- Every value is computed from row numbers, so that two loads give the same rows.

insert into telescope (code, name, aperture_m, status) values
  ('HF1', 'Harrow One', 2.40, 'operational'),
  ('HF2', 'Harrow Two', 1.20, 'operational'),
  ('FELL', 'Fell Survey Camera', 0.60, 'operational'),
  ('OLD', 'The Old Refractor', 0.35, 'retired');

insert into observer (badge_no, given_name, family_name, email, active, joined_on) values
  ('B-001', 'Ines', 'Brandt', 'ines.brandt@harrowfell.example', true, '2015-03-02'),
  ('B-002', 'Tomas', 'Okafor', 'tomas.okafor@harrowfell.example', true, '2016-09-12'),
  ('B-003', 'Mira', 'Sandoval', 'mira.sandoval@harrowfell.example', true, '2017-01-30'),
  ('B-004', 'Jonas', 'Lindqvist', 'jonas.lindqvist@harrowfell.example', true, '2018-06-04'),
  ('B-005', 'Jonas', 'Lindqvist', 'jonas.lindqvist.2@harrowfell.example', true, '2021-10-11'),
  ('B-006', 'Aoife', 'Ní Bhriain', 'aoife.nibhriain@harrowfell.example', true, '2019-02-18'),
  ('B-007', 'Dmitri', 'Vale', 'dmitri.vale@harrowfell.example', false, '2012-05-21'),
  ('B-008', 'Yuki', 'Marsh', 'yuki.marsh@harrowfell.example', true, '2022-08-29');

insert into programme (code, title, semester, lead_id, hours_granted, hours_left, priority, contact_email, tags, settings, updated_at)
select 'P-' || (100 + n),
       (array['Faint companions of', 'Rotation curves in', 'Dust around', 'Variability of', 'Transits in', 'The outer halo of'])[1 + n % 6] || ' ' ||
       (array['nearby giants', 'the Lyra field', 'young clusters', 'Seyfert nuclei', 'cool dwarfs', 'NGC 6946', 'the galactic plane'])[1 + n % 7],
       case when n % 2 = 0 then '2026A' else '2026B' end,
       1 + n % 8,
       (20 + (n * 7) % 180)::numeric(6,2),
       case n when 7 then 18.50 when 12 then 31.25 else ((20 + (n * 7) % 180) * (n % 10) / 10.0)::numeric(6,2) end,
       1 + n % 5,
       'p' || (100 + n) || '@harrowfell.example',
       case n % 4 when 0 then '{}'::text[] when 1 then '{spectroscopy}' when 2 then '{imaging,time-critical}' else '{imaging}' end,
       jsonb_build_object('readout', case when n % 3 = 0 then 'fast' else 'slow' end, 'binning', 1 + n % 2),
       timestamptz '2026-01-10 12:00Z' + n * interval '7 hours 13 minutes'
from generate_series(1, 60) as n;

insert into block (programme_id, telescope, target_name, ra_deg, dec_deg, exposure_s, night, slot, state, assigned_to)
select 1 + n % 60,
       (array['HF1', 'HF2', 'FELL'])[1 + n % 3],
       (array['M31', 'NGC 6946', 'Vega', 'HD 209458', 'Barnard 33', 'SN 2026ab', 'M13'])[1 + n % 7] || case when n % 5 = 0 then '' else ' ' || (n % 40) end,
       (n * 137.508)::numeric % 360,
       ((n * 61.803)::numeric % 180) - 90,
       60 + (n * 37) % 3000,
       date '2026-02-01' + (n / 36),
       1 + (n / 3) % 12,
       (array['planned', 'done', 'done', 'failed', 'planned'])[1 + n % 5]::block_state,
       case when n % 4 = 0 then null else 1 + n % 8 end
from generate_series(0, 1999) as n;

insert into exposure (block_id, seq, taken_at, seconds, filter, seeing, accepted)
select 1 + n / 100, 1 + n % 100,
       timestamptz '2026-02-01 19:00Z' + (n / 100) * interval '31 minutes' + (n % 100) * interval '17 seconds',
       (5 + n % 295)::numeric / 2,
       (array['u', 'g', 'r', 'i', 'z'])[1 + n % 5],
       0.6 + (n % 17) * 0.05,
       n % 23 <> 0
from generate_series(0, 199999) as n;

insert into calibration (telescope, night, kind, frames, offset_arcsec, note)
select telescope, date '2026-02-01' + n, kind, 5 + (n * 3) % 20, (n % 7) * 0.0125, case when n % 6 = 0 then 'thin cloud' end
from generate_series(0, 29) as n, unnest(array['HF1', 'HF2', 'FELL']) as telescope, unnest(array['bias', 'dark', 'flat']) as kind;

insert into hours_transfer (from_code, to_code, hours, made_at) values
  ('P-104', 'P-118', 4.00, '2026-02-14 09:30Z'),
  ('P-121', 'P-107', 2.50, '2026-03-03 16:05Z');

insert into sky_feed (read_at, humidity, wind_mps, cloud)
select timestamptz '2026-02-01 18:00Z' + n * interval '10 minutes', 40 + n % 45, (n % 90) / 10.0,
       case n % 6 when 0 then 'thin' when 3 then 'broken' else 'clear' end
from generate_series(0, 499) as n;

analyze;
