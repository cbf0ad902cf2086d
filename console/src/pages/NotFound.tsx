import { Link } from '@mui/material';
import { Link as To } from 'react-router-dom';
import { Empty } from '../parts/parts';

export function NotFound() {
  return <Empty title="There is no such page"><Link component={To} to="/">Back to the overview</Link></Empty>;
}
